import { useChangeChannel } from "../../api/queries";
import type { Audience, Channel, Nearness } from "../../api/types";
import { CopyField } from "../../components/CopyField";
import { ErrorNote } from "../../components/Notes";
import { Select } from "../../components/Select";
import { Section } from "./Section";

const AUDIENCES = [
  ["nobody", "Nobody"],
  ["everybody", "Everybody who knows the address"],
] as const;

const NEARNESSES = [
  ["nearest", "As near as can be: less than a second"],
  ["near", "Near: one or two seconds"],
  ["steady", "Steady: some seconds, for lines that stutter"],
] as const;

/** Who may watch a channel without an account, how near, and at which addresses. */
export function Viewers({ channel }: { channel: Channel }) {
  const change = useChangeChannel(channel.name);
  const { audience, nearness, addresses } = channel.viewing;
  return (
    <Section title="Viewers">
      <div className="grid gap-4 p-4 sm:p-5 lg:grid-cols-2">
        <div className="space-y-4">
          <Select
            label="Who may watch"
            value={audience}
            options={AUDIENCES}
            disabled={change.isPending}
            onChange={(event) => change.mutate({ viewing: { audience: event.target.value as Audience } })}
            hint="Holds at once, also for who is watching."
          />
          <Select
            label="How near to the moment"
            value={nearness}
            options={NEARNESSES}
            disabled={change.isPending}
            onChange={(event) => change.mutate({ viewing: { nearness: event.target.value as Nearness } })}
            hint="Holds from the next session."
          />
          {change.error && <ErrorNote error={change.error} />}
        </div>
        {audience === "nobody" ? (
          <p className="self-center text-sm text-base-content/70">Closed: to viewers this channel looks as if it were not there.</p>
        ) : (
          <div className="space-y-3">
            <CopyField label="Page for people" value={addresses.page} />
            <CopyField label="HLS" value={addresses.hls} hint="More addresses: waverant viewing addresses" />
          </div>
        )}
      </div>
    </Section>
  );
}
