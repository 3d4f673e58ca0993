import type { RecoveryCodes } from "../../api/types";
import { Dialog } from "../../components/Dialog";

/** They are shown here and nowhere else. */
export function RecoveryCodesDialog({ codes, onClose }: { codes: RecoveryCodes; onClose: () => void }) {
  return (
    <Dialog title="Recovery codes" onClose={onClose}>
      <div className="space-y-4">
        <p className="text-sm text-base-content/75">Each signs you in once in the place of authenticator or passkey. Keep them where that is not. They are not shown again.</p>
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
