import type { FormEvent } from "react";
import { useAddKey } from "../../api/queries";
import type { NewKey } from "../../api/types";
import { CopyField } from "../../components/CopyField";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";

function EncoderFields({ made, onClose }: { made: NewKey; onClose: () => void }) {
  return (
    <div className="space-y-4">
      <p className="text-sm text-base-content/75">
        Paste these into the encoder&apos;s two fields. The key for “{made.key.label}” is shown only now.
      </p>
      <CopyField label="Server" value={made.encoder.server} />
      <CopyField label="Stream key" value={made.encoder.key} hint="Whoever has it can publish on this channel." />
      <div className="modal-action">
        <button type="button" className="btn btn-primary" onClick={onClose}>
          Done
        </button>
      </div>
    </div>
  );
}

export function AddKey({ channel, onClose }: { channel: string; onClose: () => void }) {
  const add = useAddKey(channel);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    add.mutate(fieldText(event.currentTarget, "label"));
  };
  return (
    <Dialog title="Make a stream key" onClose={onClose}>
      {add.data ? (
        <EncoderFields made={add.data} onClose={onClose} />
      ) : (
        <form className="space-y-4" onSubmit={onSubmit}>
          <Field label="For whom" name="label" placeholder="Camera at the boathouse" required autoFocus hint="A person or a device. Each gets a key of its own, so that one can be withdrawn alone." />
          {add.error && <ErrorNote error={add.error} />}
          <FormActions label="Make key" isBusy={add.isPending} onCancel={onClose} />
        </form>
      )}
    </Dialog>
  );
}
