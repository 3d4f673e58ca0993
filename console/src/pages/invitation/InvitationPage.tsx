import { type FormEvent, useState } from "react";
import { useAcceptInvitation, useInvited } from "../../api/queries";
import { CodeField } from "../../components/CodeField";
import { Field, fieldText } from "../../components/Field";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { Wordmark } from "../../components/Wordmark";
import { ROOT } from "../../api/place";

/** Where a one-time link leads: the code stands behind the #, which browsers send to nobody. */
export function InvitationPage() {
  const code = window.location.hash.slice(1);
  const invited = useInvited(code);
  const accept = useAcceptInvitation();
  const [fault, setFault] = useState<string>();
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const password = fieldText(form, "password");
    if (password !== fieldText(form, "again")) {
      setFault("The passwords differ.");
      return;
    }
    setFault(undefined);
    const second_factor = fieldText(form, "second_factor") || undefined;
    accept.mutate({ code, password, second_factor }, { onSuccess: () => window.location.replace(`${ROOT}/`) });
  };
  return (
    <main className="grid min-h-dvh place-items-center p-4">
      <div className="w-full max-w-sm">
        <div className="mb-6">
          <Wordmark />
        </div>
        <div className="panel p-6">
          {invited.isPending && <LoadingNote />}
          {invited.error && <ErrorNote error={invited.error} />}
          {invited.data && (
            <form className="space-y-4" onSubmit={onSubmit}>
              <h1 className="text-lg font-semibold">Welcome, {invited.data.name}</h1>
              <p className="text-sm text-base-content/75">You are let in. Choose a password.</p>
              <Field label="User name" name="name" value={invited.data.name} readOnly autoComplete="username" />
              <Field label="Password" name="password" type="password" autoComplete="new-password" minLength={10} required autoFocus hint="At least ten characters: a few words that nobody says together." />
              <Field label="Password again" name="again" type="password" autoComplete="new-password" required />
              {invited.data.needs_second_factor && <CodeField label="Code of your authenticator" name="second_factor" hint="Or a recovery code." />}
              {fault && <p className="text-sm text-error">{fault}</p>}
              {accept.error && <ErrorNote error={accept.error} />}
              <button type="submit" className="btn btn-primary w-full" disabled={accept.isPending}>
                Choose it and sign in
              </button>
            </form>
          )}
        </div>
      </div>
    </main>
  );
}
