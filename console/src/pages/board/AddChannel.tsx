import type { FormEvent } from "react";
import { useNavigate } from "react-router";
import { useAddChannel } from "../../api/queries";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";

export function AddChannel({ onClose }: { onClose: () => void }) {
  const add = useAddChannel();
  const navigate = useNavigate();
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const name = fieldText(form, "name");
    const title = fieldText(form, "title") || undefined;
    add.mutate({ name, title }, { onSuccess: () => void navigate(`/channels/${name}`) });
  };
  return (
    <Dialog title="Add channel" onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <Field label="Title" name="title" placeholder="Finish line" autoFocus />
        <Field label="Name" name="name" placeholder="finish-line" required hint="Small letters, digits and hyphens; it stands in addresses and folder names." />
        {add.error && <ErrorNote error={add.error} />}
        <FormActions label="Add channel" isBusy={add.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
