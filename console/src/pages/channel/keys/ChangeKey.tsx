import type { FormEvent } from "react";
import { useChangeKey } from "../../../api/keys";
import type { StreamKey } from "../../../api/types";
import { Dialog } from "../../../components/Dialog";
import { Field, fieldText } from "../../../components/Field";
import { FormActions } from "../../../components/FormActions";
import { ErrorNote } from "../../../components/Notes";
import { RuleFields, useRules } from "./RuleFields";

export function ChangeKey({ channel, present, onClose }: { channel: string; present: StreamKey; onClose: () => void }) {
  const change = useChangeKey(channel, present.id);
  const rules = useRules(present);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const { expires_at, ...others } = rules.read(form);
    change.mutate(
      {
        ...others,
        // An end that is over cannot be set again, and need not.
        expires_at: expires_at && Math.abs(Date.parse(expires_at) - Date.parse(present.expires_at ?? "")) < 60_000 ? undefined : expires_at,
        label: fieldText(form, "label"),
        rank: Number(fieldText(form, "rank")) || 0,
      },
      { onSuccess: onClose },
    );
  };
  return (
    <Dialog title={`Change the key for “${present.label}”`} onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <p className="text-sm text-base-content/75">A show that it opened is left alone: it ends when it was to end, or later.</p>
        <Field label="For whom" name="label" defaultValue={present.label} required autoFocus />
        {present.right === "publish" && <Field label="Rank" name="rank" type="number" min={0} max={9} defaultValue={present.rank} hint="0 is the highest; an encoder with a lower rank, up to 9, waits as a backup." />}
        <RuleFields present={present} rules={rules} isForWatching={present.right === "view"} />
        {change.error && <ErrorNote error={change.error} />}
        <FormActions label="Change key" isBusy={change.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
