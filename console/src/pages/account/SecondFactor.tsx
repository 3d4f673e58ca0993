import { useQueryClient } from "@tanstack/react-query";
import { QRCodeSVG } from "qrcode.react";
import { type FormEvent, useState } from "react";
import { useBeginSecondFactor, useConfirmSecondFactor, useRemoveSecondFactor, useRenewRecoveryCodes, useSecondFactor } from "../../api/queries";
import type { AuthenticatorKey, RecoveryCodes } from "../../api/types";
import { CodeField } from "../../components/CodeField";
import { CopyField } from "../../components/CopyField";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { ProofForm } from "../../components/ProofForm";
import { count, moment } from "../../lib/format";
import { Section } from "../channel/Section";

type Doing = "set-up" | "renewal" | "removal";

/** What besides the password signs one in. */
export function SecondFactor() {
  const factor = useSecondFactor();
  const [doing, setDoing] = useState<Doing>();
  const client = useQueryClient();
  // What was set up opens more than before: all is asked for anew.
  const onClose = () => {
    setDoing(undefined);
    void client.invalidateQueries();
  };
  return (
    <Section title="Second factor">
      {factor.isPending && <LoadingNote />}
      {factor.error && <ErrorNote error={factor.error} />}
      {factor.data && (
        <div className="flex flex-wrap items-center justify-between gap-3 p-4 text-sm sm:px-5">
          {factor.data.since ? (
            <p>
              An authenticator is asked for since {moment(factor.data.since)}. {count(factor.data.recovery_codes_left, "recovery code is", "recovery codes are")} left.
            </p>
          ) : (
            <p className="max-w-prose">
              {factor.data.is_required ? "The rules of this house ask you for one. " : "Your password alone signs you in. "}
              With a second factor, who learns your password still stays out.
            </p>
          )}
          <div className="flex gap-2">
            {factor.data.since ? (
              <>
                <button type="button" className="btn btn-sm" onClick={() => setDoing("renewal")}>
                  New recovery codes
                </button>
                <button type="button" className="btn btn-sm btn-outline btn-error" onClick={() => setDoing("removal")}>
                  Take it away
                </button>
              </>
            ) : (
              <button type="button" className="btn btn-sm btn-primary" onClick={() => setDoing("set-up")}>
                Set up an authenticator
              </button>
            )}
          </div>
        </div>
      )}
      {doing === "set-up" && <SetUp onClose={onClose} />}
      {doing === "renewal" && <Renewal onClose={onClose} />}
      {doing === "removal" && <Removal onClose={onClose} />}
    </Section>
  );
}

/** Password, then the key, then its first code, then recovery codes. */
function SetUp({ onClose }: { onClose: () => void }) {
  const begin = useBeginSecondFactor();
  const confirm = useConfirmSecondFactor();
  const onBegin = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    begin.mutate({ password: fieldText(event.currentTarget, "password") });
  };
  const onConfirm = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    confirm.mutate({ code: fieldText(event.currentTarget, "code") });
  };
  if (confirm.data) return <Codes codes={confirm.data} onClose={onClose} />;
  return (
    <Dialog title="Set up an authenticator" onClose={onClose}>
      {begin.data ? (
        <form className="space-y-4" onSubmit={onConfirm}>
          <Key made={begin.data} />
          <CodeField label="Its code now" name="code" autoFocus />
          {confirm.error && <ErrorNote error={confirm.error} />}
          <FormActions label="Ask for it from now on" isBusy={confirm.isPending} onCancel={onClose} />
        </form>
      ) : (
        <form className="space-y-4" onSubmit={onBegin}>
          <Field label="Your password" name="password" type="password" autoComplete="current-password" required autoFocus />
          {begin.error && <ErrorNote error={begin.error} />}
          <FormActions label="Show the key" isBusy={begin.isPending} onCancel={onClose} />
        </form>
      )}
    </Dialog>
  );
}

function Key({ made }: { made: AuthenticatorKey }) {
  return (
    <>
      <p className="text-sm text-base-content/75">Let an authenticator read this picture, or type the key into it (six digits, every 30 s).</p>
      <div className="flex justify-center rounded-box bg-white p-4">
        <QRCodeSVG value={made.address} size={168} title="The key, for an authenticator" />
      </div>
      <CopyField label="Key" value={made.key} />
    </>
  );
}

function Codes({ codes, onClose }: { codes: RecoveryCodes; onClose: () => void }) {
  return (
    <Dialog title="Recovery codes" onClose={onClose}>
      <div className="space-y-4">
        <p className="text-sm text-base-content/75">Each signs you in once in the place of the authenticator. Keep them where that is not. They are not shown again.</p>
        <ul className="grid grid-cols-2 gap-x-6 gap-y-1 rounded-box bg-base-200 p-4 font-mono text-sm" aria-label="Recovery codes">
          {codes.codes.map((code) => (
            <li key={code}>{code}</li>
          ))}
        </ul>
        <button type="button" className="btn btn-primary w-full" onClick={onClose}>
          I have kept them
        </button>
      </div>
    </Dialog>
  );
}

function Renewal({ onClose }: { onClose: () => void }) {
  const renew = useRenewRecoveryCodes();
  if (renew.data) return <Codes codes={renew.data} onClose={onClose} />;
  return (
    <Dialog title="New recovery codes" onClose={onClose}>
      <ProofForm label="Make new ones" error={renew.error} isBusy={renew.isPending} onProof={(form) => renew.mutate(form)} onClose={onClose}>
        Those you have are worthless then.
      </ProofForm>
    </Dialog>
  );
}

function Removal({ onClose }: { onClose: () => void }) {
  const remove = useRemoveSecondFactor();
  return (
    <Dialog title="Take the second factor away" onClose={onClose}>
      <ProofForm label="Take it away" error={remove.error} isBusy={remove.isPending} onProof={(form) => remove.mutate(form, { onSuccess: onClose })} onClose={onClose}>
        Your password alone signs you in then.
      </ProofForm>
    </Dialog>
  );
}
