import { expect, it } from "vitest";
import { leftText } from "./left";

it.each([
  ["2026-08-30T00:00:00Z", "90 days are left"],
  ["2026-06-02T20:00:00Z", "44 h are left"],
  ["2026-06-01T00:30:00Z", "30 min are left"],
  ["2026-05-31T23:59:00Z", "it has ended"],
])("what ends at %s: %s", (ends, expected) => {
  expect(leftText(ends, Date.parse("2026-06-01T00:00:00Z"))).toBe(expected);
});
