import type { FormEvent } from "react";
import { useAddKey } from "../../api/queries";
import type { NewKey } from "../../api/types";
import { CopyField } from "../../components/CopyField";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";

function EncoderFields({ made, onClose }: { made: NewKey; onClose: () => void }) {
  const isForWatching = made.key.right === "view";
  return (
    <div className="space-y-4">
      <p className="text-sm text-base-content/75">
        Paste these into the {isForWatching ? "player" : "encoder"}&apos;s two fields. The key for “{made.key.label}” is
        shown only now.
      </p>
      <CopyField label="Server" value={made.encoder.server} />
      {made.encoder.secure_server && <CopyField label="Server over TLS" value={made.encoder.secure_server} />}
      <CopyField
        label="Key"
        value={made.encoder.key}
        hint={`Whoever has it can ${isForWatching ? "watch" : "publish on"} this channel.`}
      />
      <details>
        <summary className="cursor-pointer text-sm font-medium">Other kinds of devices</summary>
        <div className="mt-3 space-y-4">
          <CopyField label="Both in one, where there is one field" value={made.encoder.whole} />
          <CopyField label="Server, where user name and password are asked for" value={made.encoder.guarded_server} />
          <CopyField label="User name" value={made.encoder.user} hint="The password is the key." />
        </div>
      </details>
      <details>
        <summary className="cursor-pointer text-sm font-medium">Over SRT</summary>
        <div className="mt-3 space-y-4">
          <CopyField label="Address" value={made.encoder.srt.address} hint="The device is the caller." />
          <CopyField
            label="Stream id"
            value={made.encoder.srt.stream_id}
            hint={`Latency: ${made.encoder.srt.latency_ms} ms or more.${made.encoder.srt.has_passphrase ? " Passphrase: that of the channel." : ""}`}
          />
          <CopyField label="Both in one, where there is one field" value={made.encoder.srt.whole} />
        </div>
      </details>
      <div className="modal-action">
        <button type="button" className="btn btn-primary" onClick={onClose}>
          Done
        </button>
      </div>
    </div>
  );
}

function Choice({ value, label, isDefault = false }: { value: string; label: string; isDefault?: boolean }) {
  return (
    <label className="flex items-center gap-2 text-sm">
      <input type="radio" className="radio radio-sm" name="right" value={value} defaultChecked={isDefault} />
      {label}
    </label>
  );
}

export function AddKey({ channel, onClose }: { channel: string; onClose: () => void }) {
  const add = useAddKey(channel);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const right = fieldText(event.currentTarget, "right") === "view" ? "view" : "publish";
    const rank = fieldText(event.currentTarget, "right") === "backup" ? 1 : 0;
    const allowed_from = fieldText(event.currentTarget, "from").split(/[\s,]+/).filter(Boolean);
    add.mutate({ label: fieldText(event.currentTarget, "label"), right, rank, allowed_from });
  };
  return (
    <Dialog title="Make a key" onClose={onClose}>
      {add.data ? (
        <EncoderFields made={add.data} onClose={onClose} />
      ) : (
        <form className="space-y-4" onSubmit={onSubmit}>
          <Field label="For whom" name="label" placeholder="Camera at the boathouse" required autoFocus hint="A person or a device. Each gets a key of its own, so that one can be withdrawn alone." />
          <fieldset>
            <legend className="text-sm font-medium">Opens the channel for</legend>
            <div className="mt-1 flex flex-wrap gap-x-6 gap-y-2">
              <Choice value="publish" label="Publishing" isDefault />
              <Choice value="backup" label="Publishing as a backup" />
              <Choice value="view" label="Watching" />
            </div>
          </fieldset>
          <Field label="May be used from" name="from" placeholder="anywhere" hint="Addresses or networks, as in 192.0.2.7, 198.51.100.0/24." />
          {add.error && <ErrorNote error={add.error} />}
          <FormActions label="Make key" isBusy={add.isPending} onCancel={onClose} />
        </form>
      )}
    </Dialog>
  );
}
