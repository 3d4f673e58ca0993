import { describe, expect, it } from "vitest";
import type { EncoderFields } from "../api/types";
import { asField, asMoment, keyRules, keyState, qrChoices } from "./keys";

describe("a key", () => {
  it.each([
    [{ state: "open" as const, turns_at: null }, "good", /^opens$/],
    [{ state: "open" as const, turns_at: "2026-05-17T18:00:00Z" }, "good", /^opens until 2026-05-1/],
    [{ state: "early" as const, turns_at: "2026-05-17T18:00:00Z" }, "trouble", /^opens at 2026-05-1/],
    [{ state: "out_of_hours" as const, turns_at: null }, "idle", /does not open any more/],
    [{ state: "expired" as const, turns_at: null }, "idle", /over/],
    [{ state: "retired" as const, turns_at: null, retired: { at: "2026-05-17T18:00:00Z", show: "ends" as const } }, "idle", /^retired 2026-05-1/],
  ])("tells whether it opens: %o", (key, tone, text) => {
    expect(keyState(key).tone).toBe(tone);
    expect(keyState(key).text).toMatch(text);
  });

  it("tells what binds it", () => {
    expect(keyRules({})).toEqual([]);
    expect(
      keyRules({ hours: { zone: "UTC", windows: ["mon 08:00-09:00"] }, allowed_from: ["192.0.2.7"], protocols: ["srt"], most_connections: 1, show_when_over: "goes_on" }),
    ).toEqual(["mon 08:00-09:00 (UTC)", "only from 192.0.2.7", "only over SRT", "one at a time", "its show goes on when its time is over"]);
  });

  it("has a QR code for each field that there is", () => {
    const srt = { address: "srt://x:1", stream_id: "k", long_stream_id: "l", whole: "srt://x:1?streamid=k", latency_ms: 120, has_passphrase: false };
    const fields: EncoderFields = { server: "rtmp://x/in", key: "k", guarded_server: "g", user: "u", whole: "rtmp://x/in/k", srt };
    expect(qrChoices(fields).map(({ label }) => label)).not.toContain("Passphrase alone");
    const full = qrChoices({ ...fields, secure_whole: "rtmps://x/in/k", srt: { ...srt, passphrase: "p" } });
    expect(full.map(({ value }) => value)).toEqual(["rtmp://x/in/k", "rtmps://x/in/k", "srt://x:1?streamid=k", "rtmp://x/in", "k", "srt://x:1", "p"]);
  });

  it("keeps moments through a field", () => {
    expect(asMoment(asField("2026-05-17T18:00:00.000Z"))).toBe("2026-05-17T18:00:00.000Z");
    expect([asMoment(""), asField(null)]).toEqual([null, ""]);
  });
});
