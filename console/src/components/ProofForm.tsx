import { type FormEvent, type ReactNode, useRef } from "react";
import { useAskOwnPasskey, useSecondFactor } from "../api/queries";
import type { PresentPassword } from "../api/types";
import { canUsePasskeys } from "../lib/passkeys";
import { CodeField } from "./CodeField";
import { Field, fieldText } from "./Field";
import { FormActions } from "./FormActions";
import { ErrorNote } from "./Notes";
import { PasskeyButton } from "./PasskeyButton";

type Props = {
  /** What the button does. */
  label: string;
  error: Error | null;
  isBusy: boolean;
  onProof: (proof: PresentPassword) => void;
  onClose: () => void;
  children?: ReactNode;
};

/** Password, and second factor of who has one: for what a stolen sign-in must not do. */
export function ProofForm({ label, error, isBusy, onProof, onClose, children }: Props) {
  const factor = useSecondFactor().data;
  const ask = useAskOwnPasskey();
  const form = useRef<HTMLFormElement>(null);
  const hasPasskey = canUsePasskeys() && (factor?.passkeys.some((passkey) => passkey.host === window.location.hostname) ?? false);
  const hasFactor = Boolean(factor?.since) || (factor?.passkeys.length ?? 0) > 0;
  const password = () => (form.current ? fieldText(form.current, "password") : "");
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    onProof({ password: password(), second_factor: fieldText(event.currentTarget, "second_factor") || undefined });
  };
  return (
    <form ref={form} className="space-y-4" onSubmit={onSubmit}>
      {children && <p className="text-sm text-base-content/75">{children}</p>}
      <Field label="Your password" name="password" type="password" autoComplete="current-password" required autoFocus />
      {hasPasskey && <PasskeyButton isBusy={isBusy} challenge={() => ask.mutateAsync(undefined)} onProof={(passkey) => onProof({ password: password(), passkey })} />}
      {hasFactor && <CodeField label={factor?.since ? "Code of the authenticator" : "Recovery code"} name="second_factor" hint={factor?.since ? "Or a recovery code." : undefined} />}
      {error && <ErrorNote error={error} />}
      <FormActions label={label} isBusy={isBusy} onCancel={onClose} />
    </form>
  );
}
