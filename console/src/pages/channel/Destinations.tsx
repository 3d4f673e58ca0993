import { Plus, Unlink } from "lucide-react";
import { useState } from "react";
import { useDestinations, useSwitch, useUnlink } from "../../api/queries";
import type { Channel } from "../../api/types";
import { EmptyNote, ErrorNote } from "../../components/Notes";
import { AddDestination } from "./AddDestination";
import { Section } from "./Section";

export function Destinations({ channel }: { channel: Channel }) {
  const all = useDestinations();
  const change = useSwitch(channel.name);
  const unlink = useUnlink(channel.name);
  const [isAdding, setAdding] = useState(false);
  const address = (name: string) => all.data?.find((entry) => entry.name === name)?.address ?? "";
  const action = (
    <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
      <Plus className="size-4" /> Add destination
    </button>
  );
  return (
    <Section title="Destinations" action={action}>
      {(change.error ?? unlink.error) && <ErrorNote error={change.error ?? unlink.error} />}
      {channel.destinations.length === 0 && (
        <EmptyNote title="No destinations yet.">Add a platform&apos;s address and key. You can switch it on and off in mid-show.</EmptyNote>
      )}
      <ul className="divide-y divide-base-300">
        {channel.destinations.map(({ destination, is_on }) => (
          <li key={destination} className="flex items-center gap-3 px-4 py-2.5 sm:px-5">
            <div className="min-w-0 flex-1">
              <p className="font-medium">{destination}</p>
              <p className="truncate font-mono text-sm text-base-content/65">{address(destination)}</p>
            </div>
            <button type="button" className="btn btn-ghost btn-square btn-sm" aria-label={`Take ${destination} from this channel`} onClick={() => unlink.mutate(destination)}>
              <Unlink className="size-4" />
            </button>
            <input
              type="checkbox"
              className="toggle toggle-success"
              checked={is_on}
              aria-label={`${destination} is on`}
              onChange={(event) => change.mutate({ destination, isOn: event.target.checked })}
            />
          </li>
        ))}
      </ul>
      {isAdding && <AddDestination channel={channel} onClose={() => setAdding(false)} />}
    </Section>
  );
}
