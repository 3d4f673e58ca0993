import type { FormEvent } from "react";
import { useAddAddressRule } from "../../api/addresses";
import type { Reception } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { Select } from "../../components/Select";

const RECEPTIONS = [
  ["blocked", "Blocked: only a right key, token or sign-in opens"],
  ["welcome", "Welcome: the crew's, never slowed and never blocked"],
] as const;

const TIMES = [
  ["60", "for an hour"],
  ["1440", "for a day"],
  ["10080", "for a week"],
  ["", "until it is taken away"],
] as const;

/** How callers from some addresses are received. */
export function AddRule({ range, onClose }: { range?: string; onClose: () => void }) {
  const add = useAddAddressRule();
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const minutes = Number(fieldText(form, "minutes"));
    const body = {
      range: fieldText(form, "range"),
      reception: fieldText(form, "reception") as Reception,
      note: fieldText(form, "note"),
      ...(minutes > 0 && { minutes }),
    };
    add.mutate(body, { onSuccess: onClose });
  };
  return (
    <Dialog title="Callers from an address" onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <Field label="Address or network" name="range" defaultValue={range} placeholder="192.0.2.0/24" required autoFocus={!range} />
        <Select label="Are" name="reception" options={RECEPTIONS} hint="Who watches an open channel from a blocked address is kept out too; a link opens it." />
        <Select label="How long" name="minutes" options={TIMES} />
        <Field label="Why" name="note" maxLength={200} placeholder="none" />
        {add.error && <ErrorNote error={add.error} />}
        <FormActions label="Save" isBusy={add.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
