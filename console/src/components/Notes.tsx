import { CircleAlert } from "lucide-react";
import type { ReactNode } from "react";
import { CallError } from "../api/client";

export function ErrorNote({ error }: { error: unknown }) {
  const known = error instanceof CallError ? error : undefined;
  return (
    <div role="alert" className="flex gap-3 rounded-box border border-error/40 bg-error/10 p-4 text-sm">
      <CircleAlert aria-hidden className="size-5 shrink-0 text-error" />
      <div>
        <p className="font-medium">{known?.message ?? "Something went wrong in the console."}</p>
        <p className="mt-0.5 text-base-content/75">{known?.nextStep ?? "Reload the page."}</p>
      </div>
    </div>
  );
}

export function LoadingNote() {
  return (
    <div className="grid place-items-center py-16" role="status" aria-label="Loading">
      <span className="loading loading-bars text-primary" />
    </div>
  );
}

export function EmptyNote({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="px-6 py-10 text-center">
      <p className="font-medium">{title}</p>
      {children && <p className="mx-auto mt-1 max-w-prose text-sm text-base-content/70">{children}</p>}
    </div>
  );
}
