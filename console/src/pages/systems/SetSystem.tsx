import type { FormEvent } from "react";
import { type Whose, useSetHouseSystem } from "../../api/houseSystems";
import type { HouseSystemRules } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { Select } from "../../components/Select";
import { ABOUT, UNKNOWN_KEYS, WHEN_SILENT, aboutOf, rulesIn } from "./systemForm";

type Props = { whose: Whose; present?: HouseSystemRules; onSecret: (secret: string) => void; onClose: () => void };

/** How another system is asked before somebody is let in. */
export function SetSystem({ whose, present, onSecret, onClose }: Props) {
  const set = useSetHouseSystem(whose);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const secret = fieldText(form, "secret");
    const renews = form.querySelector<HTMLInputElement>("[name=renews]")?.checked ?? false;
    const body = { rules: rulesIn(form), renews_secret: renews, ...(secret && { secret }) };
    set.mutate(body, {
      onSuccess: (done) => {
        onClose();
        if (done.secret) onSecret(done.secret);
      },
    });
  };
  return (
    <Dialog title={whose ? `Ask about ${whose}` : "Ask about everybody"} onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <Field label="Address" name="address" type="url" defaultValue={present?.address} placeholder="https://club.wexcombe.example/relay" required autoFocus hint="It gets a POST with JSON. docs/asking.md shows question and answers." />
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" className="checkbox checkbox-sm" name="is_on" defaultChecked={present?.is_on ?? true} />
          {whose ? "Ask it; without this nobody is asked about this channel" : "Ask it"}
        </label>
        <Select label="About" name="about" defaultValue={present ? aboutOf(present) : "publishers"} options={ABOUT} />
        {!whose && <Select label="Keys that are not known here" name="unknown_keys" defaultValue={present?.unknown_keys} options={UNKNOWN_KEYS} hint="So it may keep keys of its own: they open what it says." />}
        <Select label="While it does not answer, let in" name="when_silent" defaultValue={present?.when_silent} options={WHEN_SILENT} />
        <div className="grid gap-4 sm:grid-cols-3">
          <Field label="Seconds it has" name="time_limit" type="number" min={0.2} max={8} step="any" defaultValue={(present?.time_limit_ms ?? 3000) / 1000} required />
          <Field label="Further tries" name="retries" type="number" min={0} max={3} defaultValue={present?.retries ?? 1} required />
          <Field label="Again, in minutes" name="again" type="number" min={0} max={1440} step="any" defaultValue={present?.again_s ? present.again_s / 60 : ""} placeholder="never" />
        </div>
        <Field label="Secret" name="secret" type="password" placeholder={present ? "unchanged" : "one is made"} hint="Questions are signed with it: whsec_ and 24 to 64 bytes in base64." />
        {present && (
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" className="checkbox checkbox-sm" name="renews" />
            Make another secret
          </label>
        )}
        {set.error && <ErrorNote error={set.error} />}
        <FormActions label="Save" isBusy={set.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
