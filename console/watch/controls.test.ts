import { expect, it } from "vitest";
import { toldBehind } from "./controls";

it("tells how far behind in what can be read at a glance", () => {
  const told = ([[0.34, "0.3 s behind"], [15, "15.0 s behind"], [15.2, "15 s behind"], [59.6, "1 min 0 s behind"], [130, "2 min 10 s behind"], [7_275, "2 h 1 min behind"]] as const);
  for (const [seconds, text] of told) expect(toldBehind(seconds)).toBe(text);
});
