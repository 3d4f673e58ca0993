import { useChangeChannel, useDepots, useViewerMinutes } from "../../api/queries";
import type { Audience, BetweenShows, Channel, Nearness, ViewerCounts, WayOfWatching } from "../../api/types";
import { CopyField } from "../../components/CopyField";
import { ErrorNote } from "../../components/Notes";
import { Select } from "../../components/Select";
import { Allowed } from "../../components/Allowed";
import { embedCode, Links } from "./Links";
import { PageTexts } from "./PageTexts";
import { Section } from "./Section";

const AUDIENCES = [
  ["nobody", "Nobody"],
  ["by_link", "Who has a link"],
  ["everybody", "Everybody who knows the address"],
] as const;

const NEARNESSES = [
  ["nearest", "As near as can be: less than a second"],
  ["near", "Near: one or two seconds"],
  ["steady", "Steady: some seconds, for lines that stutter"],
] as const;

/** A longer window lies on the disk. */
const IN_MEMORY_MS = 120_000;

const BACKS: [number, string][] = [
  [30_000, "30 seconds"],
  [60_000, "1 minute"],
  [120_000, "2 minutes"],
  [600_000, "10 minutes"],
  [1_800_000, "half an hour"],
  [3_600_000, "1 hour"],
  [7_200_000, "2 hours"],
  [14_400_000, "4 hours"],
];

/** The usual ones, and the one that it is. */
export function backChoices(present: number): [string, string][] {
  const isUsual = BACKS.some(([back]) => back === present);
  const all: [number, string][] = isUsual ? BACKS : [...BACKS, [present, `${present / 1000} seconds`]];
  return all.toSorted(([one], [other]) => one - other).map(([back, text]) => [String(back), text]);
}

const BETWEEN = [
  ["silence", "Nothing: they wait"],
  ["picture", "The holding picture"],
] as const;

const WAYS: [WayOfWatching, string][] = [
  ["segments", "HLS and DASH"],
  ["pictures", "pages, a picture at a time"],
  ["stream", "stream over HTTP"],
  ["rtmp", "RTMP"],
  ["srt", "SRT"],
];

/** Who may watch a channel without an account, how near, and at which addresses. */
export function Viewers({ channel, now }: { channel: Channel; now: ViewerCounts | undefined }) {
  const change = useChangeChannel(channel.name);
  const { audience, nearness, addresses, back_ms: back } = channel.viewing;
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
          <Select
            label="How far back one can go"
            value={String(back)}
            options={backChoices(back)}
            disabled={change.isPending}
            onChange={(event) => change.mutate({ viewing: { back_ms: Number(event.target.value) } })}
            hint={back > IN_MEMORY_MS ? "What is old lies on the disk. Holds from the next session." : "Holds from the next session."}
          />
          <Select
            label="Players between two shows get"
            value={channel.viewing.between_shows}
            options={BETWEEN}
            disabled={change.isPending}
            onChange={(event) => change.mutate({ viewing: { between_shows: event.target.value as BetweenShows } })}
            hint="Those that stay connected: streams over HTTP, RTMP, SRT."
          />
          <PublishTo channel={channel} />
          <Ways channel={channel} />
          {change.error && <ErrorNote error={change.error} />}
        </div>
        {audience === "nobody" && (
          <p className="self-center text-sm text-base-content/70">Closed: to viewers this channel looks as if it were not there.</p>
        )}
        {audience === "by_link" && (
          <p className="self-center text-sm text-base-content/70">Who has one of the links below can watch; to all others this channel looks as if it were not there.</p>
        )}
        {audience === "everybody" && (
          <div className="space-y-3">
            <CopyField label="Page for people" value={addresses.page} />
            <CopyField label="Code for a page of your own" value={embedCode(addresses.embed)} />
            <CopyField label="HLS" value={addresses.hls} hint="More addresses: waverant viewing addresses" />
            {addresses.published && <CopyField label="HLS from the depot" value={addresses.published} />}
          </div>
        )}
      </div>
      <PageTexts channel={channel} />
      <Watching channel={channel.name} now={now} />
      <Allowed least="operator">
        <Links channel={channel.name} isClosed={audience === "nobody"} />
      </Allowed>
    </Section>
  );
}

/** The depot from which shows are told as well; asked for where there is one that viewers reach. */
function PublishTo({ channel }: { channel: Channel }) {
  const change = useChangeChannel(channel.name);
  const depots = useDepots();
  const present = channel.viewing.published_to ?? "";
  const reached = (depots.data ?? []).filter((depot) => depot.public_address).map((depot) => depot.name);
  if (reached.length === 0) return null;
  const options = [["", "Nowhere else"], ...reached.map((name) => [name, `Depot ${name}`])] as [string, string][];
  return (
    <>
      <Select
        label="Tell shows from a depot as well"
        value={present}
        options={options}
        disabled={change.isPending}
        onChange={(event) => change.mutate({ viewing: { published_to: event.target.value } })}
        hint="For more viewers than the uplink carries, while everybody may watch."
      />
      {change.error && <ErrorNote error={change.error} />}
    </>
  );
}

/** By which ways a channel can be watched. */
function Ways({ channel }: { channel: Channel }) {
  const change = useChangeChannel(channel.name);
  const open = channel.viewing.ways;
  const toggle = (way: WayOfWatching, isOpen: boolean) => {
    const ways = WAYS.map(([name]) => name).filter((name) => (name === way ? isOpen : open.includes(name)));
    change.mutate({ viewing: { ways } });
  };
  return (
    <fieldset>
      <legend className="text-sm font-medium">Ways of watching</legend>
      <div className="mt-1 flex flex-wrap gap-x-5 gap-y-1">
        {WAYS.map(([way, name]) => (
          <label key={way} className="label text-sm text-base-content">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={open.includes(way)}
              disabled={change.isPending}
              onChange={(event) => toggle(way, event.target.checked)}
            />
            {name}
          </label>
        ))}
      </div>
      <p className="mt-1 text-xs text-base-content/65">Holds at once, also for who is watching.</p>
      {change.error && <ErrorNote error={change.error} />}
    </fieldset>
  );
}

/** How many watch now, by the way they do, and how many did in the last hour. */
function Watching({ channel, now }: { channel: string; now: ViewerCounts | undefined }) {
  const minutes = useViewerMinutes(channel);
  const most = Math.max(0, ...(minutes.data ?? []).map(({ viewers }) => viewers.total));
  const ways = WAYS.filter(([way]) => (now?.[way] ?? 0) > 0).map(([way, name]) => `${now?.[way] ?? 0} ${name}`);
  if (!now?.total && most === 0) return null;
  return (
    <p className="border-t border-base-300 px-4 py-3 text-sm sm:px-5">
      <span className="font-medium">{now?.total ?? 0} watching now</span>
      <span className="text-base-content/65">
        {ways.length > 0 && ` (${ways.join(", ")})`}
        {most > 0 && ` · at most ${most} in the last hour`}
      </span>
    </p>
  );
}
