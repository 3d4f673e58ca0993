import { Fingerprint } from "lucide-react";
import { type FormEvent, useState } from "react";
import { useBeginPasskey, useConfirmPasskey, useRemovePasskey } from "../../api/queries";
import type { Passkey } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { ProofForm } from "../../components/ProofForm";
import { moment } from "../../lib/format";
import { PasskeyError, canUsePasskeys, makePasskey } from "../../lib/passkeys";
import { RecoveryCodesDialog } from "./RecoveryCodesDialog";
import { deviceName } from "./device";

/** The passkeys of whoever is signed in. */
export function Passkeys({ passkeys, onChange }: { passkeys: readonly Passkey[]; onChange: () => void }) {
  const [removed, setRemoved] = useState<Passkey>();
  const onClose = () => {
    setRemoved(undefined);
    onChange();
  };
  return (
    <>
      <ul aria-label="Passkeys" className="divide-y divide-base-300 border-t border-base-300 empty:hidden">
        {passkeys.map((passkey) => (
          <li key={passkey.id} className="flex items-center justify-between gap-4 px-4 py-3 text-sm sm:px-5">
            <div className="flex min-w-0 items-start gap-3">
              <Fingerprint aria-hidden className="mt-0.5 size-4 shrink-0 text-base-content/60" />
              <div className="min-w-0">
                <p className="font-medium [overflow-wrap:anywhere]">{passkey.label}</p>
                <p className="text-base-content/75">
                  At {passkey.host} since {moment(passkey.created_at)}
                  {passkey.last_used_at && `, last used ${moment(passkey.last_used_at)}`}
                </p>
              </div>
            </div>
            <button type="button" className="btn btn-sm" aria-label={`Remove ${passkey.label}`} onClick={() => setRemoved(passkey)}>
              Remove
            </button>
          </li>
        ))}
      </ul>
      {removed && <RemovePasskey passkey={removed} onClose={onClose} />}
    </>
  );
}

function RemovePasskey({ passkey, onClose }: { passkey: Passkey; onClose: () => void }) {
  const remove = useRemovePasskey();
  return (
    <Dialog title={`Remove ${passkey.label}`} onClose={onClose}>
      <ProofForm label="Remove it" error={remove.error} isBusy={remove.isPending} onProof={(proof) => remove.mutate({ id: passkey.id, proof }, { onSuccess: onClose })} onClose={onClose}>
        It signs you in no more. The device keeps its half until you remove it there.
      </ProofForm>
    </Dialog>
  );
}

/** Password, then the browser, then a name for it; and recovery codes, if it is the first factor. */
export function AddPasskey({ onClose }: { onClose: () => void }) {
  const begin = useBeginPasskey();
  const confirm = useConfirmPasskey();
  const [fault, setFault] = useState<unknown>();
  const onSubmit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const label = fieldText(event.currentTarget, "label");
    if (!begin.data) return;
    setFault(undefined);
    try {
      const credential = await makePasskey(begin.data);
      confirm.mutate({ ceremony: begin.data.ceremony, label, credential }, { onSuccess: ({ codes }) => codes.length === 0 && onClose() });
    } catch (error) {
      setFault(error);
    }
  };
  if (confirm.data && confirm.data.codes.length > 0) return <RecoveryCodesDialog codes={confirm.data} onClose={onClose} />;
  return (
    <Dialog title="Add a passkey" onClose={onClose}>
      {!canUsePasskeys() && <p className="text-sm text-base-content/75">Browsers take passkeys over HTTPS only, and for a name, not an address. Open the console by its name; or set up an authenticator.</p>}
      {canUsePasskeys() && !begin.data && (
        <ProofForm label="Go on" error={begin.error} isBusy={begin.isPending} onProof={(form) => begin.mutate(form)} onClose={onClose}>
          This device, another one, or a key that you plug in: whatever your browser offers.
        </ProofForm>
      )}
      {begin.data && (
        <form className="space-y-4" onSubmit={(event) => void onSubmit(event)}>
          <Field label="What you call it" name="label" defaultValue={deviceName(navigator.userAgent)} maxLength={96} required autoFocus />
          {fault instanceof PasskeyError ? <p className="text-sm text-error">{fault.message}</p> : fault !== undefined && <ErrorNote error={fault} />}
          {confirm.error && <ErrorNote error={confirm.error} />}
          <FormActions label="Make it" isBusy={confirm.isPending} onCancel={onClose} />
        </form>
      )}
    </Dialog>
  );
}
