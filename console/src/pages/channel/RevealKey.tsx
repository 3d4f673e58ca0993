import { useReveal } from "../../api/queries";
import { CopyField } from "../../components/CopyField";
import { Dialog } from "../../components/Dialog";
import { ProofForm } from "../../components/ProofForm";

/** Tells the key of a destination to who proves to be an administrator. */
export function RevealKey({ name, onClose }: { name: string; onClose: () => void }) {
  const reveal = useReveal(name);
  return (
    <Dialog title={`Key of ${name}`} onClose={onClose}>
      {reveal.data ? (
        <div className="space-y-4">
          <CopyField label="Key" value={reveal.data.key} />
          {reveal.data.passphrase && <CopyField label="Passphrase" value={reveal.data.passphrase} />}
          <button type="button" className="btn btn-primary w-full" onClick={onClose}>
            Done
          </button>
        </div>
      ) : (
        <ProofForm label="Show the key" error={reveal.error} isBusy={reveal.isPending} onProof={(proof) => reveal.mutate(proof)} onClose={onClose}>
          Who has this key can publish there in your name. That you asked for it is written down.
        </ProofForm>
      )}
    </Dialog>
  );
}
