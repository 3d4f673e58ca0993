import type { FormEvent, ReactNode } from "react";
import { useSecondFactor } from "../api/queries";
import type { PresentPassword } from "../api/types";
import { CodeField } from "./CodeField";
import { Field, fieldText } from "./Field";
import { FormActions } from "./FormActions";
import { ErrorNote } from "./Notes";

type Props = {
  /** What the button does. */
  label: string;
  error: Error | null;
  isBusy: boolean;
  onProof: (proof: PresentPassword) => void;
  onClose: () => void;
  children: ReactNode;
};

/** Password, and second factor of who has one: for what a stolen sign-in must not do. */
export function ProofForm({ label, error, isBusy, onProof, onClose, children }: Props) {
  const hasFactor = Boolean(useSecondFactor().data?.since);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    onProof({ password: fieldText(form, "password"), second_factor: fieldText(form, "second_factor") || undefined });
  };
  return (
    <form className="space-y-4" onSubmit={onSubmit}>
      <p className="text-sm text-base-content/75">{children}</p>
      <Field label="Your password" name="password" type="password" autoComplete="current-password" required autoFocus />
      {hasFactor && <CodeField label="Code of the authenticator" name="second_factor" hint="Or a recovery code." />}
      {error && <ErrorNote error={error} />}
      <FormActions label={label} isBusy={isBusy} onCancel={onClose} />
    </form>
  );
}
