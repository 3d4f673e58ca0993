import { KeyRound } from "lucide-react";
import { type FormEvent, useState } from "react";
import { useChangePassword, useEndOtherSignIns, useEndSignIn, useSignIns } from "../../api/queries";
import type { Token } from "../../api/types";
import { Field, fieldText } from "../../components/Field";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { moment } from "../../lib/format";
import { Section } from "../channel/Section";
import { SecondFactor } from "./SecondFactor";
import { NewToken } from "./NewToken";
import { deviceName } from "./device";
import { keptWithin } from "./keptWithin";

function SignIn({ token }: { token: Token }) {
  const end = useEndSignIn();
  return (
    <li className="flex items-start justify-between gap-4 px-4 py-3 text-sm sm:px-5">
      <div className="min-w-0">
        <p className="font-medium">
          {token.label === "console" ? deviceName(token.device) : token.label}
          {token.is_this && <span className="badge badge-sm badge-soft badge-success ml-2">this one</span>}
        </p>
        <p className="mt-0.5 text-base-content/75">
          {token.last_used_at ? `Last used ${moment(token.last_used_at)} from ${token.address || "somewhere"}` : "Not used yet"} · since {moment(token.created_at)}
          {token.expires_at && ` · ends ${moment(token.expires_at)}`}
        </p>
        {keptWithin(token) && <p className="text-base-content/75">{keptWithin(token)}</p>}
        {end.error && <ErrorNote error={end.error} />}
      </div>
      {!token.is_this && (
        <button type="button" className="btn btn-sm" disabled={end.isPending} aria-label={`End ${token.label} ${token.id}`} onClick={() => end.mutate(token.id)}>
          End
        </button>
      )}
    </li>
  );
}

function SignIns() {
  const [isAdding, setAdding] = useState(false);
  const signIns = useSignIns();
  const endOthers = useEndOtherSignIns();
  const hasOthers = signIns.data?.some((token) => !token.is_this) ?? false;
  return (
    <Section
      title="Where you are signed in"
      action={
        <div className="flex gap-2">
          <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
            <KeyRound aria-hidden className="size-4" /> New token
          </button>
          {hasOthers && (
            <button type="button" className="btn btn-sm btn-outline btn-error" disabled={endOthers.isPending} onClick={() => endOthers.mutate(undefined)}>
              End all others
            </button>
          )}
        </div>
      }
    >
      {signIns.isPending && <LoadingNote />}
      {(signIns.error ?? endOthers.error) && <ErrorNote error={signIns.error ?? endOthers.error} />}
      <ul className="divide-y divide-base-300" aria-label="Sign-ins">
        {signIns.data?.map((token) => (
          <SignIn key={token.id} token={token} />
        ))}
      </ul>
      {isAdding && <NewToken onClose={() => setAdding(false)} />}
    </Section>
  );
}

function Password() {
  const change = useChangePassword();
  const [fault, setFault] = useState<string>();
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const [present, wanted] = [fieldText(form, "present"), fieldText(form, "wanted")];
    if (wanted !== fieldText(form, "again")) {
      setFault("The new passwords differ.");
      return;
    }
    setFault(undefined);
    change.mutate({ present, wanted }, { onSuccess: () => form.reset() });
  };
  return (
    <Section title="Password">
      <form className="max-w-md space-y-3 p-4 sm:p-5" onSubmit={onSubmit}>
        <Field label="Present password" name="present" type="password" autoComplete="current-password" required />
        <Field label="New password" name="wanted" type="password" autoComplete="new-password" required hint="At least ten characters: a few words that nobody says together." />
        <Field label="New password again" name="again" type="password" autoComplete="new-password" required />
        {fault && <p className="text-sm text-error">{fault}</p>}
        {change.error && <ErrorNote error={change.error} />}
        {change.isSuccess && (
          <p role="status" className="text-sm text-success">
            The password is changed; all other sign-ins are ended.
          </p>
        )}
        <button type="submit" className="btn btn-primary btn-sm" disabled={change.isPending}>
          Change the password
        </button>
      </form>
    </Section>
  );
}

/** One's own password, and where one is signed in. */
export function AccountPage() {
  return (
    <>
      <h1 className="mb-5 text-2xl font-semibold tracking-tight">My account</h1>
      <div className="space-y-5">
        <SignIns />
        <SecondFactor />
        <Password />
      </div>
    </>
  );
}
