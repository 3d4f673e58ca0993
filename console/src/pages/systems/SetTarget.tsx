import { type FormEvent, useState } from "react";
import { useOutletContext } from "react-router";
import { useAddCallTarget, useChangeCallTarget } from "../../api/calls";
import type { Live } from "../../api/live";
import type { CallTarget, CallTargets } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { Field } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { Select } from "../../components/Select";
import { FORMATS, formatWord, targetIn, templateOf } from "./callForm";

type Props = { present?: CallTarget; kinds: CallTargets["kinds"]; hasMail: boolean; onSecret: (secret: string) => void; onClose: () => void };

function Kinds({ kinds, chosen }: { kinds: CallTargets["kinds"]; chosen: string[] }) {
  return (
    <fieldset>
      <legend className="text-sm font-medium">Tell it of</legend>
      <div className="mt-1 grid gap-x-4 gap-y-1 sm:grid-cols-2">
        {kinds.map(({ kind, meaning }) => (
          <label key={kind} className="flex items-start gap-2 text-sm">
            <input type="checkbox" className="checkbox checkbox-sm mt-0.5" name="kinds" value={kind} defaultChecked={chosen.includes(kind)} />
            <span>
              {meaning}
              <span className="block font-mono text-xs text-base-content/65">{kind}</span>
            </span>
          </label>
        ))}
      </div>
    </fieldset>
  );
}

function Format({ present }: { present?: CallTarget }) {
  const [format, setFormat] = useState(formatWord(present?.format));
  return (
    <>
      <Select label="How" name="format" value={format} onChange={(event) => setFormat(event.target.value)} options={FORMATS} />
      {format !== "event" && (
        <label className="block">
          <span className="text-sm font-medium">Text</span>
          <textarea className="textarea mt-1 w-full font-mono text-sm" name="template" rows={3} defaultValue={templateOf(present?.format)} spellCheck={false} />
          <span className="mt-1 block text-xs text-base-content/65">
            Places: {"{{ text }} {{ channel }} {{ kind }} {{ time }} {{ data.session }}"}. In JSON they come with their quotes.
          </span>
        </label>
      )}
    </>
  );
}

/** Who is told what happens, and of what. */
export function SetTarget({ present, kinds, hasMail, onSecret, onClose }: Props) {
  const add = useAddCallTarget();
  const change = useChangeCallTarget(present?.name ?? "");
  const { board } = useOutletContext<Live>();
  const done = {
    onSuccess: (set: { secret?: string | null }) => {
      onClose();
      if (set.secret) onSecret(set.secret);
    },
  };
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const target = targetIn(form);
    if (present) change.mutate({ ...target, address: target.address || null, renews_secret: new FormData(form).has("renews") }, done);
    else add.mutate({ ...target, channel: target.channel || null }, done);
  };
  const error = add.error ?? change.error;
  const names = (board?.channels ?? []).map(({ name }) => [name, name] as const);
  return (
    <Dialog title={present ? present.name : "Tell somebody what happens"} isWide onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label="Name" name="name" defaultValue={present?.name} maxLength={60} placeholder="club chat" required autoFocus />
          <Select label="What happens in" name="channel" defaultValue={present?.channel ?? ""} options={[["", "All channels, and the house"], ...names]} />
        </div>
        <Field
          label="Address"
          name="address"
          placeholder={present ? present.address : "https://club.wexcombe.example/told"}
          required={!present}
          hint={hasMail ? "Or people, as in mailto:cox@wexcombe.example." : "For mail, name a server under [mail] in the settings file."}
        />
        <Kinds kinds={kinds} chosen={present?.kinds ?? ["session.begins", "session.holds", "session.is_over", "leg.refused"]} />
        <Format present={present} />
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" className="checkbox checkbox-sm" name="is_on" defaultChecked={present?.is_on ?? true} />
          Tell it
        </label>
        {present && !present.is_mail && (
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" className="checkbox checkbox-sm" name="renews" />
            Make another secret
          </label>
        )}
        {error && <ErrorNote error={error} />}
        <FormActions label="Save" isBusy={add.isPending || change.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
