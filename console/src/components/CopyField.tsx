import { Check, Copy } from "lucide-react";
import { useId, useRef, useState } from "react";

/** Copies even where the page has no secure context, as on a plain address in a house net. */
async function copy(text: string, field: HTMLInputElement | null): Promise<void> {
  if (navigator.clipboard) {
    await navigator.clipboard.writeText(text);
    return;
  }
  field?.select();
  document.execCommand("copy");
}

/** A value to paste elsewhere, with a button that copies it. */
export function CopyField({ label, value, hint }: { label: string; value: string; hint?: string }) {
  const [isCopied, setCopied] = useState(false);
  const id = useId();
  const field = useRef<HTMLInputElement>(null);
  const onCopy = async () => {
    await copy(value, field.current);
    setCopied(true);
    setTimeout(() => setCopied(false), 2000);
  };
  return (
    <div>
      <label htmlFor={id} className="eyebrow">
        {label}
      </label>
      <div className="join mt-1 w-full">
        <input id={id} ref={field} readOnly value={value} className="input join-item w-full font-mono text-sm" onFocus={(event) => event.target.select()} />
        <button type="button" className="btn join-item" onClick={() => void onCopy()} aria-label={`Copy ${label}`}>
          {isCopied ? <Check className="size-4 text-success" /> : <Copy className="size-4" />}
          <span className="hidden sm:inline">{isCopied ? "Copied" : "Copy"}</span>
        </button>
      </div>
      {hint && <p className="mt-1 text-xs text-base-content/65">{hint}</p>}
    </div>
  );
}
