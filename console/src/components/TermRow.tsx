import type { ReactNode } from "react";

/** A term and what is said of it, in a list of such. */
export function TermRow({ label, children }: { label: string; children: ReactNode }) {
  return (
    <div className="grid gap-x-4 px-4 py-2.5 text-sm sm:grid-cols-[10rem_1fr] sm:px-5">
      <dt className="text-base-content/70">{label}</dt>
      <dd className="min-w-0 [overflow-wrap:anywhere]">{children}</dd>
    </div>
  );
}
