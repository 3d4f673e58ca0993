import { Circle, Settings2, Square, Tag } from "lucide-react";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { useRecorder } from "../../api/queries";
import type { Channel, LiveSession } from "../../api/types";
import { fieldText } from "../../components/Field";
import { Allowed } from "../../components/Allowed";
import { ErrorNote } from "../../components/Notes";
import { TakeList } from "../recordings/TakeList";
import { RecordingRules } from "./RecordingRules";
import { Section } from "./Section";

/** Starts, stops and marks the recording of what is on air. */
function RecorderBar({ channel, session }: { channel: Channel; session: LiveSession }) {
  const { start, stop, mark } = useRecorder(channel.name);
  const isOn = session.recorder !== "off";
  const onMark = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    await mark.mutateAsync(fieldText(form, "mark"));
    form.reset();
  };
  const error = start.error ?? stop.error ?? mark.error;
  return (
    <div className="border-b border-base-300 px-4 py-3 sm:px-5">
      <div className="flex flex-wrap items-center gap-3">
        {isOn ? (
          <button type="button" className="btn btn-sm" disabled={stop.isPending} onClick={() => stop.mutate(undefined)}>
            <Square className="size-4" /> Stop recording
          </button>
        ) : (
          <button
            type="button"
            className="btn btn-sm"
            disabled={start.isPending || channel.recording.when === "off" || session.is_rehearsal}
            onClick={() => start.mutate(undefined)}
          >
            <Circle className="size-4 fill-error text-error" /> Record
          </button>
        )}
        <form className="flex min-w-0 grow gap-2" onSubmit={(event) => void onMark(event).catch(() => undefined)}>
          <input name="mark" className="input input-sm min-w-0 grow" placeholder="What happens now" aria-label="What happens now" maxLength={160} required disabled={session.recorder !== "recording"} />
          <button type="submit" className="btn btn-sm" disabled={mark.isPending || session.recorder !== "recording"}>
            <Tag className="size-4" /> Mark
          </button>
        </form>
        {session.take && session.take.mark_count > 0 && (
          <span className="text-sm text-base-content/70">{session.take.mark_count} marked</span>
        )}
      </div>
      {error && <div className="mt-3"><ErrorNote error={error} /></div>}
    </div>
  );
}

/** A channel's recordings, and what is recorded now. */
export function Recordings({ channel, session }: { channel: Channel; session: LiveSession | undefined }) {
  const [isOpen, setOpen] = useState(false);
  const action = (
    <div className="flex items-center gap-3">
      <Link to={`/recordings?channel=${channel.name}`} className="text-sm hover:underline">
        All
      </Link>
      <Allowed least="engineer">
        <button type="button" className="btn btn-sm" onClick={() => setOpen(true)}>
          <Settings2 className="size-4" /> What is recorded
        </button>
      </Allowed>
    </div>
  );
  return (
    <Section title="Recordings" action={action}>
      <Allowed least="operator">{session && <RecorderBar channel={channel} session={session} />}</Allowed>
      <TakeList filter={{ channel: channel.name, limit: 5 }} />
      {isOpen && <RecordingRules channel={channel} onClose={() => setOpen(false)} />}
    </Section>
  );
}
