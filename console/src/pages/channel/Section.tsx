import type { ReactNode } from "react";

/** A titled panel with an action in its corner. */
export function Section({ title, action, children }: { title: string; action?: ReactNode; children: ReactNode }) {
  return (
    <section className="panel overflow-hidden" aria-label={title}>
      <div className="flex min-h-13 items-center justify-between gap-3 border-b border-base-300 px-4 py-2 sm:px-5">
        <h2 className="text-lg font-semibold tracking-tight">{title}</h2>
        {action}
      </div>
      {children}
    </section>
  );
}
