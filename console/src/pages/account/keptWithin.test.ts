import { expect, it } from "vitest";
import { keptWithin } from "./keptWithin";

it("says what a token is kept within", () => {
  expect(keptWithin({ role: null, channels: null, addresses: [] })).toBe("");
  expect(keptWithin({ role: "operator", channels: ["weir"], addresses: ["192.0.2.0/24"] })).toBe("at most operator · on weir only · from 192.0.2.0/24 only");
  expect(keptWithin({ role: null, channels: [], addresses: [] })).toBe("on no channel only");
});
