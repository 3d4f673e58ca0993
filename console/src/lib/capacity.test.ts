import { expect, it } from "vitest";
import { amount, verdict } from "./capacity";

it("tells amounts in the units that people read", () => {
  expect([amount("bps", 18_000_000), amount("bytes", 5_400_000_000), amount("processors", 0.034)]).toEqual([
    "18.0 Mbit/s",
    "5.40 GB",
    "0.03",
  ]);
  expect([amount("bps", null), verdict("too_little")]).toEqual(["not known", "too little"]);
});
