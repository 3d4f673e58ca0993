import type { FormEvent } from "react";
import { useRenewKey } from "../../../api/keys";
import type { StreamKey } from "../../../api/types";
import { Dialog } from "../../../components/Dialog";
import { Field, fieldText } from "../../../components/Field";
import { FormActions } from "../../../components/FormActions";
import { ErrorNote } from "../../../components/Notes";
import { asField, asMoment } from "../../../lib/keys";
import { MadeKey } from "./MadeKey";

const WEEK_MS = 7 * 24 * 3600 * 1000;

export function RenewKey({ channel, present, now, onClose }: { channel: string; present: StreamKey; now: number; onClose: () => void }) {
  const renew = useRenewKey(channel, present.id);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    renew.mutate({ both_until: asMoment(fieldText(form, "both")) ?? "", guest_link_until: asMoment(fieldText(form, "guest")) });
  };
  return (
    <Dialog title={`Renew the key for “${present.label}”`} onClose={onClose}>
      {renew.data ? (
        <MadeKey made={renew.data} onClose={onClose} />
      ) : (
        <form className="space-y-4" onSubmit={onSubmit}>
          <p className="text-sm text-base-content/75">Another key is made with the same rules. Until the moment below both open, so that the encoder can change in its own time; a show goes on over it.</p>
          <Field label="The old one opens until" name="both" type="datetime-local" required autoFocus defaultValue={asField(new Date(now + WEEK_MS).toISOString())} hint="Up to 90 days from now." />
          <Field label="Guest's link until" name="guest" type="datetime-local" hint="A page without an account that shows the new key. None if left empty." />
          {renew.error && <ErrorNote error={renew.error} />}
          <FormActions label="Renew key" isBusy={renew.isPending} onCancel={onClose} />
        </form>
      )}
    </Dialog>
  );
}
