import { type FormEvent, useState } from "react";
import { useAddKeys } from "../../../api/keys";
import type { NewKey } from "../../../api/types";
import { CopyField } from "../../../components/CopyField";
import { Dialog } from "../../../components/Dialog";
import { DoneAction } from "../../../components/DoneAction";
import { fieldText } from "../../../components/Field";
import { FormActions } from "../../../components/FormActions";
import { ErrorNote } from "../../../components/Notes";
import { readKeyList } from "../../../lib/keyList";

/** Keys from a list: a line for each, with its label and, where there is one already, the key. */
export function ImportKeys({ channel, onClose }: { channel: string; onClose: () => void }) {
  const add = useAddKeys(channel);
  const [fault, setFault] = useState<string>();
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const list = readKeyList(fieldText(event.currentTarget, "list"));
    setFault(list.fault);
    if (!list.fault) add.mutate({ keys: list.keys });
  };
  return (
    <Dialog title="Keys from a list" isWide={add.data !== undefined} onClose={onClose}>
      {add.data ? (
        <MadeKeys made={add.data} onClose={onClose} />
      ) : (
        <form className="space-y-4" onSubmit={onSubmit}>
          <p className="text-sm text-base-content/75">A line for each: for whom, and behind a comma the key that the encoder has. Without one a key is made, which is safer. All are taken, or none.</p>
          <label className="block">
            <span className="text-sm font-medium">List</span>
            <textarea className="textarea mt-1 h-48 w-full font-mono text-sm" name="list" required autoFocus spellCheck={false} placeholder={"Bow camera, Boathouse_2019\nUmpire's launch"} />
          </label>
          {fault && <p className="text-sm text-error">{fault}</p>}
          {add.error && <ErrorNote error={add.error} />}
          <FormActions label="Make keys" isBusy={add.isPending} onCancel={onClose} />
        </form>
      )}
    </Dialog>
  );
}

function MadeKeys({ made, onClose }: { made: NewKey[]; onClose: () => void }) {
  return (
    <div className="space-y-4">
      <p className="text-sm text-base-content/75">The keys are shown only now.</p>
      {made[0] && <CopyField label="Server" value={made[0].encoder.server} />}
      <div className="overflow-x-auto">
        <table className="table table-sm">
          <thead>
            <tr>
              <th>For whom</th>
              <th>Key</th>
              <th>To be known</th>
            </tr>
          </thead>
          <tbody>
            {made.map(({ key, encoder, warning }) => (
              <tr key={key.id}>
                <td>{key.label}</td>
                <td className="font-mono whitespace-nowrap">{encoder.key}</td>
                <td>{warning ?? "–"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <DoneAction onClose={onClose} />
    </div>
  );
}
