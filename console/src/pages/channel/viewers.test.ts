import { expect, it } from "vitest";
import { backChoices } from "./Viewers";

it("offers the usual windows, and the one that a command set", () => {
  expect(backChoices(30_000).map(([value]) => value)).toHaveLength(8);
  const told = backChoices(90_000);
  expect(told).toHaveLength(9);
  expect(told[2]).toEqual(["90000", "90 seconds"]);
});
