import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";
import { useRehearse } from "../../api/queries";
import type { Channel } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";

/** Runs the channel on the test picture, then shows the report. */
export function Rehearse({ channel, onClose }: { channel: Channel; onClose: () => void }) {
  const rehearse = useRehearse(channel.name);
  const navigate = useNavigate();
  const [chosen, setChosen] = useState<string[]>([]);
  const toggle = (name: string) =>
    setChosen(chosen.includes(name) ? chosen.filter((other) => other !== name) : [...chosen, name]);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const secondsLong = Number(fieldText(event.currentTarget, "seconds"));
    rehearse.mutate(
      { seconds: secondsLong, destinations: chosen },
      { onSuccess: ({ session }) => void navigate(`/sessions/${session}`) },
    );
  };
  return (
    <Dialog title="Rehearse" onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <Field label="Seconds" name="seconds" type="number" min={1} max={3600} defaultValue={20} required hint="A test picture with a tone, 1280×720, 2.5 Mbit/s." />
        <fieldset>
          <legend className="text-sm font-medium">Really send it to</legend>
          <p className="text-xs text-base-content/65">Without a choice the built-in sink takes it, and nobody sees it.</p>
          <div className="mt-2 space-y-2">
            {channel.destinations.map(({ destination }) => (
              <label key={destination} className="flex items-center gap-2 text-sm">
                <input type="checkbox" className="checkbox checkbox-sm" checked={chosen.includes(destination)} onChange={() => toggle(destination)} />
                {destination}
              </label>
            ))}
          </div>
        </fieldset>
        {rehearse.error && <ErrorNote error={rehearse.error} />}
        <FormActions label="Begin" isBusy={rehearse.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
