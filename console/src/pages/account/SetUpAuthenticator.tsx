import { QRCodeSVG } from "qrcode.react";
import type { FormEvent } from "react";
import { useBeginSecondFactor, useConfirmSecondFactor } from "../../api/queries";
import type { AuthenticatorKey } from "../../api/types";
import { CodeField } from "../../components/CodeField";
import { CopyField } from "../../components/CopyField";
import { Dialog } from "../../components/Dialog";
import { fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { ProofForm } from "../../components/ProofForm";
import { RecoveryCodesDialog } from "./RecoveryCodesDialog";

/** Password, then the key, then its first code, then recovery codes. */
export function SetUpAuthenticator({ onClose }: { onClose: () => void }) {
  const begin = useBeginSecondFactor();
  const confirm = useConfirmSecondFactor();
  const onConfirm = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    confirm.mutate({ code: fieldText(event.currentTarget, "code") });
  };
  if (confirm.data) return <RecoveryCodesDialog codes={confirm.data} onClose={onClose} />;
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
        <ProofForm label="Show the key" error={begin.error} isBusy={begin.isPending} onProof={(form) => begin.mutate(form)} onClose={onClose} />
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
