import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useRef, useState } from "react";
import { CallError } from "../../api/client";
import { useAskPasskey, useCompleteFirstRun, useFirstRun, useSignIn } from "../../api/queries";
import type { SignIn } from "../../api/types";
import { CodeField } from "../../components/CodeField";
import { Field, fieldText } from "../../components/Field";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { PasskeyButton } from "../../components/PasskeyButton";
import { ThemeSwitch } from "../../components/ThemeSwitch";
import { Wordmark } from "../../components/Wordmark";
import { canUsePasskeys } from "../../lib/passkeys";

function SignInForm() {
  const signIn = useSignIn();
  const client = useQueryClient();
  const ask = useAskPasskey();
  const [hasPasskey, setPasskey] = useState(false);
  const form = useRef<HTMLFormElement>(null);
  const code = signIn.error instanceof CallError ? signIn.error.code : undefined;
  // Once it was asked for, the field stays: a wrong code is typed anew beside the password that was right.
  const [isAsked, setAsked] = useState(false);
  if (code === "second_factor_needed" && !isAsked) setAsked(true);
  const text = (field: string) => (form.current ? fieldText(form.current, field) : "");
  const typed = () => ({ name: text("name"), password: text("password") });
  const enter = (body: SignIn) =>
    signIn.mutate(body, {
      onSuccess: () => client.invalidateQueries(),
      // Who has a passkey for this site is offered it.
      onError: (error) => error instanceof CallError && error.code === "second_factor_needed" && canUsePasskeys() && ask.mutate(typed(), { onSuccess: () => setPasskey(true) }),
    });
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    enter({ ...typed(), second_factor: text("second_factor") || undefined });
  };
  return (
    <form ref={form} className="space-y-4" onSubmit={onSubmit}>
      <Field label="User name" name="name" autoComplete="username" required autoFocus />
      <Field label="Password" name="password" type="password" autoComplete="current-password" required />
      {isAsked && hasPasskey && <PasskeyButton isBusy={signIn.isPending} challenge={() => ask.mutateAsync(typed())} onProof={(passkey) => enter({ ...typed(), passkey })} />}
      {isAsked && <CodeField label="Code of the authenticator" name="second_factor" hint="Or a recovery code." autoFocus />}
      {signIn.error && code !== "second_factor_needed" && <ErrorNote error={signIn.error} />}
      <button type="submit" className="btn btn-primary w-full" disabled={signIn.isPending}>
        Sign in
      </button>
    </form>
  );
}

function FirstRunForm() {
  const complete = useCompleteFirstRun();
  const client = useQueryClient();
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const [code, name, password] = ["code", "name", "password"].map((field) => fieldText(form, field));
    if (!code || !name || !password) return;
    complete.mutate({ code, name, password }, { onSuccess: () => client.invalidateQueries() });
  };
  return (
    <form className="space-y-4" onSubmit={onSubmit}>
      <p className="text-sm text-base-content/75">
        This service is new. Make its first administrator with the one-time code that waverantd printed when it started.
      </p>
      <Field label="One-time code" name="code" required autoFocus hint="Also in the file first-run-code in the state folder." />
      <Field label="User name" name="name" autoComplete="username" required />
      <Field label="Password" name="password" type="password" autoComplete="new-password" minLength={10} required hint="At least ten characters." />
      {complete.error && <ErrorNote error={complete.error} />}
      <button type="submit" className="btn btn-primary w-full" disabled={complete.isPending}>
        Make administrator
      </button>
    </form>
  );
}

export function SignInPage() {
  const firstRun = useFirstRun();
  return (
    <main className="grid min-h-dvh place-items-center p-4">
      <div className="w-full max-w-sm">
        <div className="mb-6 flex items-center justify-between">
          <Wordmark />
          <ThemeSwitch />
        </div>
        <div className="panel p-6">
          {firstRun.isPending && <LoadingNote />}
          {firstRun.error && <ErrorNote error={firstRun.error} />}
          {firstRun.data && (firstRun.data.is_needed ? <FirstRunForm /> : <SignInForm />)}
        </div>
      </div>
    </main>
  );
}
