import { Eye, PlugZap, Plus, Settings2, Unlink } from "lucide-react";
import { useState } from "react";
import { useMay } from "../../api/may";
import { useDestinations, useSwitch, useUnlink } from "../../api/queries";
import type { Channel, ChannelDestination } from "../../api/types";
import { Allowed } from "../../components/Allowed";
import { EmptyNote, ErrorNote } from "../../components/Notes";
import { seconds } from "../../lib/format";
import { AddDestination } from "./AddDestination";
import { EditDestination } from "./EditDestination";
import { RevealKey } from "./RevealKey";
import { Section } from "./Section";
import { TryDestination } from "./TryDestination";

function later({ delay_ms, start_after_ms }: ChannelDestination): string {
  const parts = [
    ...(delay_ms > 0 ? [`${seconds(delay_ms)} later`] : []),
    ...(start_after_ms > 0 ? [`starts after ${seconds(start_after_ms)}`] : []),
  ];
  return parts.length > 0 ? ` · ${parts.join(", ")}` : "";
}

export function Destinations({ channel }: { channel: Channel }) {
  const all = useDestinations();
  const change = useSwitch(channel.name);
  const unlink = useUnlink(channel.name);
  const mayRun = useMay("operator");
  const [isAdding, setAdding] = useState(false);
  const [edited, setEdited] = useState<string>();
  const [tried, setTried] = useState<string>();
  const [revealed, setRevealed] = useState<string>();
  const known = (name: string | undefined) => all.data?.find((entry) => entry.name === name);
  const editedOne = known(edited);
  const sending = channel.destinations.find((entry) => entry.destination === edited);
  const action = (
    <Allowed least="engineer">
      <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
        <Plus className="size-4" /> Add destination
      </button>
    </Allowed>
  );
  return (
    <Section title="Destinations" action={action}>
      {(change.error ?? unlink.error) && <ErrorNote error={change.error ?? unlink.error} />}
      {channel.destinations.length === 0 && (
        <EmptyNote title="No destinations yet.">Add a platform&apos;s address and key. You can switch it on and off in mid-show.</EmptyNote>
      )}
      <ul className="divide-y divide-base-300">
        {channel.destinations.map((entry) => {
          const { destination, is_on } = entry;
          return (
          <li key={destination} className="flex items-center gap-3 px-4 py-2.5 sm:px-5">
            <div className="min-w-0 flex-1">
              <p className="font-medium">{destination}</p>
              <p className="truncate font-mono text-sm text-base-content/65">
                {known(destination)?.address}
                {later(entry)}
              </p>
            </div>
            <Allowed least="operator">
            <button type="button" className="btn btn-ghost btn-square btn-sm" aria-label={`Try ${destination}`} onClick={() => setTried(destination)}>
              <PlugZap className="size-4" />
            </button>
            </Allowed>
            <Allowed least="administrator">
            <button type="button" className="btn btn-ghost btn-square btn-sm" aria-label={`Show the key of ${destination}`} onClick={() => setRevealed(destination)}>
              <Eye className="size-4" />
            </button>
            </Allowed>
            <Allowed least="engineer">
            <button type="button" className="btn btn-ghost btn-square btn-sm" aria-label={`Change ${destination}`} onClick={() => setEdited(destination)}>
              <Settings2 className="size-4" />
            </button>
            <button type="button" className="btn btn-ghost btn-square btn-sm" aria-label={`Take ${destination} from this channel`} onClick={() => unlink.mutate(destination)}>
              <Unlink className="size-4" />
            </button>
            </Allowed>
            <input
              type="checkbox"
              className="toggle toggle-success"
              checked={is_on}
              disabled={!mayRun}
              aria-label={`${destination} is on`}
              onChange={(event) => change.mutate({ destination, isOn: event.target.checked })}
            />
          </li>
          );
        })}
      </ul>
      {editedOne && sending && (
        <EditDestination channel={channel.name} destination={editedOne} sending={sending} onClose={() => setEdited(undefined)} />
      )}
      {revealed && <RevealKey name={revealed} onClose={() => setRevealed(undefined)} />}
      {tried && <TryDestination name={tried} onClose={() => setTried(undefined)} />}
      {isAdding && <AddDestination channel={channel} onClose={() => setAdding(false)} />}
    </Section>
  );
}
