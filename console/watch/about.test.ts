import { describe, expect, it } from "vitest";
import { countdown } from "./about";
import { clock } from "./recording";

const NOW = Date.parse("2026-05-17T12:00:00Z");

describe("the countdown", () => {
  it.each([
    ["2026-05-17T12:00:09Z", "9 s"],
    ["2026-05-17T12:02:05Z", "2 min 5 s"],
    ["2026-05-17T14:14:00Z", "2 h 14 min"],
    ["2026-05-20T13:00:00Z", "3 d 1 h"],
    ["2026-05-17T12:00:00Z", ""],
    ["2026-05-17T11:00:00Z", ""],
    [null, ""],
  ])("tells until %s", (startsAt, expected) => {
    expect(countdown(startsAt, NOW)).toBe(expected);
  });
});

describe("the place of a mark", () => {
  it.each([
    [0, "0:00"],
    [65_400, "1:05"],
    [3_723_000, "1:02:03"],
  ])("tells %d ms", (milliseconds, expected) => {
    expect(clock(milliseconds)).toBe(expected);
  });
});
