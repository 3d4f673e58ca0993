import { describe, expect, it } from "vitest";
import { bitrate, clock, count, seconds, size } from "./format";

describe("format", () => {
  it.each([
    [0, "0 kbit/s"],
    [128_400, "128 kbit/s"],
    [1_734_000, "1.73 Mbit/s"],
    [12_340_000, "12.3 Mbit/s"],
  ])("writes %d bits per second as %s", (bits, expected) => expect(bitrate(bits)).toBe(expected));

  it.each([
    [0, "0:00"],
    [59_999, "0:59"],
    [3_723_000, "1:02:03"],
    [-5, "0:00"],
  ])("writes %d ms as a clock %s", (milliseconds, expected) => expect(clock(milliseconds)).toBe(expected));

  it.each([
    [982_000, "982 kB"],
    [2_500_000, "2.5 MB"],
    [3_456_000_000, "3.46 GB"],
  ])("writes %d bytes as %s", (bytes, expected) => expect(size(bytes)).toBe(expected));

  it("gets plurals right", () => {
    expect(count(1, "leg", "legs")).toBe("1 leg");
    expect(count(0, "leg", "legs")).toBe("0 legs");
    expect(seconds(2000)).toBe("2.0 s");
  });
});
