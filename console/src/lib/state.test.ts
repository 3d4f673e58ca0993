import { describe, expect, it } from "vitest";
import type { Finding, LiveChannel, LiveLeg } from "../api/types";
import { inOrder, legNote, legTone, summary } from "./state";

function leg(state: LiveLeg["state"], more: Partial<LiveLeg> = {}): LiveLeg {
  return {
    destination: "plovio",
    state,
    state_for_ms: 0,
    bitrate_bps: 0,
    behind_ms: 0,
    sent_frame_count: 0,
    sent_bytes: 0,
    dropped_frame_count: 0,
    dropped_ms: 0,
    delay_ms: 0,
    redial_count: 0,
    trace: [],
    ...more,
  };
}

function channel(title: string, state: LiveChannel["state"], legs: LiveLeg[]): LiveChannel {
  const session = state === "off air" ? null : ({ id: 1 } as LiveChannel["session"]);
  const viewers = { segments: 0, pictures: 0, stream: 0, rtmp: 0, srt: 0, total: 0 };
  return { name: title.toLowerCase(), title, state, viewers, session, legs, findings: [] };
}

describe("summary", () => {
  it("counts what is on air and which legs carry", () => {
    const channels = [
      channel("Finish", "on air", [leg("carrying"), leg("refused"), leg("off")]),
      channel("Boathouse", "off air", [leg("ready")]),
      channel("Mill", "holding", [leg("carrying")]),
    ];
    const counts = { onAir: 1, holding: 1, channels: 3, carrying: 2, wanted: 3, findings: 0, hasAlarm: false };
    expect(summary({ at: "", channels, refused_counts: [], findings: [] })).toEqual(counts);
  });

  it("counts findings that are to be told", () => {
    const finding = (severity: Finding["severity"], is_muted = false): Finding => ({
      code: "silence",
      severity,
      cause: "",
      advice: "",
      destinations: [],
      is_muted,
    });
    const onAir = { ...channel("Finish", "on air", []), findings: [finding("warning"), finding("note"), finding("alarm", true)] };
    const offAir = { ...channel("Mill", "off air", []), findings: [finding("warning")] };
    const board = { at: "", channels: [onAir, offAir], refused_counts: [], findings: [] };
    expect(summary(board)).toMatchObject({ findings: 1, hasAlarm: false });
    expect(summary({ ...board, findings: [finding("alarm")] })).toMatchObject({ findings: 2, hasAlarm: true });
  });
});

describe("legs", () => {
  it("says what a carrying leg does not get", () => {
    expect(legNote({ ...leg("carrying"), note: "not sent: Opus" })).toBe("not sent: Opus");
    expect(legNote(leg("carrying"))).toBeUndefined();
  });

  it("have a tone for every state", () => {
    const states = ["carrying", "dialing", "waiting to redial", "refused", "ready", "off"] as const;
    expect(states.map((state) => legTone(leg(state)))).toEqual(["good", "trouble", "trouble", "bad", "idle", "idle"]);
  });

  it("say why they do not carry and when they dial again", () => {
    const waiting = leg("waiting to redial", { reason: "the platform closed the connection", next_dial_in_ms: 1200 });
    expect(legNote(waiting)).toBe("the platform closed the connection. Next try in 2 s.");
    expect(legNote(leg("carrying", { reason: "old trouble" }))).toBeUndefined();
    expect(legNote(leg("dialing"))).toBeUndefined();
  });
});

it("puts channels on air first", () => {
  const titles = inOrder([
    channel("B", "off air", []),
    channel("Z", "on air", []),
    channel("A", "off air", []),
  ]).map((entry) => entry.title);
  expect(titles).toEqual(["Z", "A", "B"]);
});
