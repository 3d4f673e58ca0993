import type { FormEvent } from "react";
import { useRetireKey } from "../../../api/keys";
import type { StreamKey } from "../../../api/types";
import { Dialog } from "../../../components/Dialog";
import { fieldText } from "../../../components/Field";
import { FormActions } from "../../../components/FormActions";
import { ErrorNote } from "../../../components/Notes";

export function RetireKey({ channel, present, onClose }: { channel: string; present: StreamKey; onClose: () => void }) {
  const retire = useRetireKey(channel, present.id);
  const what = present.right === "view" ? "players" : "show";
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    retire.mutate(fieldText(event.currentTarget, "show") === "goes_on" ? "goes_on" : "ends", { onSuccess: onClose });
  };
  return (
    <Dialog title={`Retire the key for “${present.label}”`} onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <p className="text-sm text-base-content/75">It opens nothing from now on, and cannot be brought back. Who still comes with it is told so, and stands in the turned-away list.</p>
        <fieldset className="space-y-2">
          <legend className="text-sm font-medium">If it is in use now</legend>
          <label className="flex items-center gap-2 text-sm">
            <input type="radio" className="radio radio-sm" name="show" value="goes_on" defaultChecked /> its {what} {present.right === "view" ? "go" : "goes"} on until {present.right === "view" ? "they leave" : "the encoder leaves"}
          </label>
          <label className="flex items-center gap-2 text-sm">
            <input type="radio" className="radio radio-sm" name="show" value="ends" /> its {what} {present.right === "view" ? "are" : "is"} ended at once
          </label>
        </fieldset>
        {retire.error && <ErrorNote error={retire.error} />}
        <FormActions label="Retire key" isBusy={retire.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
