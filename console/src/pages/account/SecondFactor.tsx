import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useRemoveSecondFactor, useRenewRecoveryCodes, useSecondFactor } from "../../api/queries";
import type { SecondFactor as Factor } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { ProofForm } from "../../components/ProofForm";
import { count, moment } from "../../lib/format";
import { Section } from "../channel/Section";
import { AddPasskey, Passkeys } from "./Passkeys";
import { RecoveryCodesDialog } from "./RecoveryCodesDialog";
import { SetUpAuthenticator } from "./SetUpAuthenticator";

type Doing = "authenticator" | "passkey" | "renewal" | "removal";

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
      {factor.data && <Standing factor={factor.data} onDoing={setDoing} />}
      {factor.data && <Passkeys passkeys={factor.data.passkeys} onChange={onClose} />}
      {doing === "authenticator" && <SetUpAuthenticator onClose={onClose} />}
      {doing === "passkey" && <AddPasskey onClose={onClose} />}
      {doing === "renewal" && <Renewal onClose={onClose} />}
      {doing === "removal" && <Removal onClose={onClose} />}
    </Section>
  );
}

function Standing({ factor, onDoing }: { factor: Factor; onDoing: (doing: Doing) => void }) {
  const hasOne = Boolean(factor.since) || factor.passkeys.length > 0;
  return (
    <div className="flex flex-wrap items-center justify-between gap-3 p-4 text-sm sm:px-5">
      <p className="max-w-prose">
        {factor.since && `An authenticator is asked for since ${moment(factor.since)}. `}
        {hasOne ? (
          `${count(factor.recovery_codes_left, "recovery code is", "recovery codes are")} left.`
        ) : (
          <>
            {factor.is_required ? "The rules of this house ask you for one. " : "Your password alone signs you in. "}
            With a second factor, who learns your password still stays out.
          </>
        )}
      </p>
      <div className="flex flex-wrap gap-2">
        {hasOne && (
          <button type="button" className="btn btn-sm" onClick={() => onDoing("renewal")}>
            New recovery codes
          </button>
        )}
        <button type="button" className={`btn btn-sm ${hasOne ? "" : "btn-primary"}`} onClick={() => onDoing("passkey")}>
          Add a passkey
        </button>
        {factor.since ? (
          <button type="button" className="btn btn-sm btn-outline btn-error" onClick={() => onDoing("removal")}>
            Take the authenticator away
          </button>
        ) : (
          <button type="button" className={`btn btn-sm ${hasOne ? "" : "btn-primary"}`} onClick={() => onDoing("authenticator")}>
            Set up an authenticator
          </button>
        )}
      </div>
    </div>
  );
}

function Renewal({ onClose }: { onClose: () => void }) {
  const renew = useRenewRecoveryCodes();
  if (renew.data) return <RecoveryCodesDialog codes={renew.data} onClose={onClose} />;
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
    <Dialog title="Take the authenticator away" onClose={onClose}>
      <ProofForm label="Take it away" error={remove.error} isBusy={remove.isPending} onProof={(form) => remove.mutate(form, { onSuccess: onClose })} onClose={onClose}>
        Its codes sign you in no more. Without a passkey, your password alone does.
      </ProofForm>
    </Dialog>
  );
}
