import type { FormEvent } from "react";
import { useOutletContext } from "react-router";
import type { Live } from "../../api/live";
import { useAddToken } from "../../api/queries";
import type { Role } from "../../api/types";
import { CopyField } from "../../components/CopyField";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { Select } from "../../components/Select";
import { ROLES } from "../../lib/roles";

const MOST = ROLES.map(([role, name, what]) => [role, `${name}: ${what}`] as const);

/** Makes a token for a program, for no more than it needs, and shows it once. */
export function NewToken({ onClose }: { onClose: () => void }) {
  const add = useAddToken();
  const channels = useOutletContext<Live>().board?.channels ?? [];
  const where = [["", "Everywhere"] as const, ...channels.map((channel) => [channel.name, `On ${channel.title} only`] as const)];
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const [channel, days, addresses] = [fieldText(form, "channel"), fieldText(form, "days"), fieldText(form, "addresses")];
    add.mutate({
      label: fieldText(form, "label"),
      role: fieldText(form, "role") as Role,
      channels: channel === "" ? null : [channel],
      days: days === "" ? null : Number(days),
      addresses: addresses === "" ? [] : addresses.split(/[\s,]+/),
    });
  };
  if (add.data) {
    return (
      <Dialog title={`Token for ${add.data.label}`} onClose={onClose}>
        <div className="space-y-4">
          <p className="text-sm text-base-content/75">Programs send it as a header. It is not shown again.</p>
          <CopyField label="Token" value={add.data.token} />
          <button type="button" className="btn btn-primary w-full" onClick={onClose}>
            Done
          </button>
        </div>
      </Dialog>
    );
  }
  return (
    <Dialog title="New token" onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <Field label="What it is for" name="label" required autoFocus maxLength={96} />
        <Select label="What it may do" name="role" options={MOST} defaultValue="observer" hint="Never more than you may." />
        <Select label="Where" name="channel" options={where} defaultValue="" />
        <Field label="From these addresses only" name="addresses" placeholder="from everywhere" hint="Addresses or networks, as in 192.0.2.0/24, with spaces between." />
        <Field label="Days until it ends" name="days" type="number" min={1} max={3650} placeholder="it does not end by itself" />
        {add.error && <ErrorNote error={add.error} />}
        <FormActions label="Make the token" isBusy={add.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
