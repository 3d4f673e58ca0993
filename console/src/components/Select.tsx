import type { SelectHTMLAttributes } from "react";

type Props = SelectHTMLAttributes<HTMLSelectElement> & {
  label: string;
  hint?: string;
  /** Value and what people read. */
  options: readonly (readonly [string, string])[];
};

/** A labelled choice of a form, read by its name. */
export function Select({ label, hint, options, ...select }: Props) {
  return (
    <label className="block">
      <span className="text-sm font-medium">{label}</span>
      <select className="select mt-1 w-full" {...select}>
        {options.map(([value, text]) => (
          <option key={value} value={value}>
            {text}
          </option>
        ))}
      </select>
      {hint && <span className="mt-1 block text-xs text-base-content/65">{hint}</span>}
    </label>
  );
}
