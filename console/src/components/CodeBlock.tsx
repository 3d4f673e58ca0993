/** A text as a machine wrote it, under a title. */
export function CodeBlock({ title, children }: { title: string; children: string }) {
  return (
    <div className="min-w-0">
      <h3 className="eyebrow">{title}</h3>
      <pre className="mt-1 max-h-72 overflow-auto rounded-box bg-base-200 p-3 text-xs">{children}</pre>
    </div>
  );
}
