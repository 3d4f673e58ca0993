import type { InputHTMLAttributes, Ref } from "react";

type Props = InputHTMLAttributes<HTMLInputElement> & {
  label: string;
  hint?: string;
  ref?: Ref<HTMLInputElement>;
};

/** A labelled input of a form, read by its name. */
export function Field({ label, hint, ...input }: Props) {
  return (
    <label className="block">
      <span className="text-sm font-medium">{label}</span>
      <input className="input mt-1 w-full" autoComplete="off" {...input} />
      {hint && <span className="mt-1 block text-xs text-base-content/65">{hint}</span>}
    </label>
  );
}

/** The text of a form's field. */
export function fieldText(form: HTMLFormElement, name: string): string {
  const value = new FormData(form).get(name);
  return typeof value === "string" ? value.trim() : "";
}
