import { CopyField } from "../../components/CopyField";
import { Dialog } from "../../components/Dialog";
import { DoneAction } from "../../components/DoneAction";

/** A secret that was made now, and what is signed with it. */
export function NewSecret({ of, secret, onClose }: { of: string; secret: string; onClose: () => void }) {
  return (
    <Dialog title={`Secret of the ${of}`} onClose={onClose}>
      <div className="space-y-4">
        <p className="text-sm text-base-content/75">They are signed with it. Give it to the system that gets them; it is not shown again.</p>
        <CopyField label="Secret" value={secret} />
        <DoneAction onClose={onClose} />
      </div>
    </Dialog>
  );
}
