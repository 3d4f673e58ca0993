import { Field } from "./Field";

/** A code that is good once, and typed. */
export function CodeField({ label, name, hint, autoFocus }: { label: string; name: string; hint?: string; autoFocus?: boolean }) {
  return <Field label={label} name={name} hint={hint} autoComplete="one-time-code" inputMode="text" spellCheck={false} required autoFocus={autoFocus} />;
}
