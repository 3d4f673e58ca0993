import type { Board, Finding, LiveChannel, LiveLeg } from "../api/types";

/** How good a state is; decides its colour everywhere. */
export type Tone = "good" | "trouble" | "bad" | "idle";

// A state that is new in the API does not compile here until it has its tone.
const LEG_TONES: Record<LiveLeg["state"], Tone> = {
  carrying: "good",
  dialing: "trouble",
  "waiting to redial": "trouble",
  refused: "bad",
  ready: "idle",
  off: "idle",
};

export function legTone(leg: LiveLeg): Tone {
  return LEG_TONES[leg.state];
}

const CHANNEL_TONES: Record<LiveChannel["state"], Tone> = { "on air": "good", holding: "trouble", over: "idle", "off air": "idle" };

export function channelTone(channel: LiveChannel): Tone {
  if (channel.session?.is_slate_on) return "trouble";
  return CHANNEL_TONES[channel.state];
}

/** The three questions of the board: on air, good, does everyone get it. */
export type Summary = { onAir: number; holding: number; channels: number; carrying: number; wanted: number; findings: number; hasAlarm: boolean };

/** What is to be told of the house and all channels: not what is muted, and not mere notes. */
function troubles(board: Board): Finding[] {
  const all = [...board.findings, ...board.channels.filter((channel) => channel.session).flatMap(({ findings }) => findings)];
  return all.filter((finding) => !finding.is_muted && finding.severity !== "note");
}

/** True while nobody sends, with or without a slate in between. */
function waits(channel: LiveChannel): boolean {
  return channel.state === "holding" || Boolean(channel.session?.is_slate_on);
}

export function summary(board: Board): Summary {
  const live = board.channels.filter((channel) => channel.session);
  const legs = live.flatMap((channel) => channel.legs).filter((leg) => leg.state !== "off");
  return {
    onAir: live.filter((channel) => channel.state !== "over" && !waits(channel)).length,
    holding: live.filter(waits).length,
    channels: board.channels.length,
    carrying: legs.filter((leg) => leg.state === "carrying").length,
    wanted: legs.length,
    findings: troubles(board).length,
    hasAlarm: troubles(board).some((finding) => finding.severity === "alarm"),
  };
}

/** What to say about a leg in one line. */
export function legNote(leg: LiveLeg): string | undefined {
  if (leg.state === "carrying") return leg.note ?? undefined;
  if (leg.state === "ready") return undefined;
  const next = leg.next_dial_in_ms ?? undefined;
  const what = leg.state === "off" ? "Starts" : "Next try";
  const when = next === undefined ? "" : ` ${what} in ${Math.ceil(next / 1000)} s.`;
  return leg.reason ? `${leg.reason}.${when}`.replace("..", ".") : when.trim() || undefined;
}

/** Channels that are on air first, then by title. */
export function inOrder(channels: LiveChannel[]): LiveChannel[] {
  const rank = (channel: LiveChannel) => (channel.session ? 0 : 1);
  return [...channels].sort((a, b) => rank(a) - rank(b) || a.title.localeCompare(b.title));
}
