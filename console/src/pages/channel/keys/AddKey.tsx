import { type FormEvent, useState } from "react";
import { useAddKey } from "../../../api/keys";
import { Dialog } from "../../../components/Dialog";
import { Field, fieldText } from "../../../components/Field";
import { FormActions } from "../../../components/FormActions";
import { ErrorNote } from "../../../components/Notes";
import { asMoment } from "../../../lib/keys";
import { MadeKey } from "./MadeKey";
import { RuleFields, useRules } from "./RuleFields";

const KINDS = [
  ["publish", "Publishing"],
  ["backup", "Publishing as a backup"],
  ["view", "Watching"],
] as const;

export function AddKey({ channel, onClose }: { channel: string; onClose: () => void }) {
  const add = useAddKey(channel);
  const rules = useRules({});
  const [kind, setKind] = useState<(typeof KINDS)[number][0]>("publish");
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    add.mutate({
      ...rules.read(form),
      label: fieldText(form, "label"),
      right: kind === "view" ? "view" : "publish",
      rank: kind === "backup" ? 1 : 0,
      key: fieldText(form, "own") || null,
      makes_passphrase: fieldText(form, "passphrase") === "on",
      guest_link_until: asMoment(fieldText(form, "guest")),
    });
  };
  return (
    <Dialog title="Make a key" onClose={onClose}>
      {add.data ? (
        <MadeKey made={add.data} onClose={onClose} />
      ) : (
        <form className="space-y-4" onSubmit={onSubmit}>
          <Field label="For whom" name="label" placeholder="Camera at the boathouse" required autoFocus hint="A person or a device. Each gets a key of its own, so that one can be retired alone." />
          <fieldset>
            <legend className="text-sm font-medium">Opens the channel for</legend>
            <div className="mt-1 flex flex-wrap gap-x-6 gap-y-2">
              {KINDS.map(([value, label]) => (
                <label key={value} className="flex items-center gap-2 text-sm">
                  <input type="radio" className="radio radio-sm" name="kind" checked={kind === value} onChange={() => setKind(value)} />
                  {label}
                </label>
              ))}
            </div>
          </fieldset>
          <Field label="Guest's link until" name="guest" type="datetime-local" hint="A page without an account that shows the key, and whether the relay sees the guest. None if left empty." />
          <details>
            <summary className="cursor-pointer text-sm font-medium">When, from where and how it opens</summary>
            <div className="mt-3">
              <RuleFields present={{}} rules={rules} isForWatching={kind === "view"} />
            </div>
          </details>
          <details>
            <summary className="cursor-pointer text-sm font-medium">A key that encoders have already; a passphrase</summary>
            <div className="mt-3 space-y-4">
              <Field label="Key of your own" name="own" minLength={8} maxLength={128} placeholder="one is made" spellCheck={false} hint="8 to 128 letters, digits and -._~!$'()*+:=@[]. One that is made here is safer." />
              <label className="flex items-center gap-2 text-sm">
                <input type="checkbox" className="checkbox checkbox-sm" name="passphrase" /> Make a passphrase of its own for SRT
              </label>
            </div>
          </details>
          {add.error && <ErrorNote error={add.error} />}
          <FormActions label="Make key" isBusy={add.isPending} onCancel={onClose} />
        </form>
      )}
    </Dialog>
  );
}
