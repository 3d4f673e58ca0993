import { describe, expect, it } from "vitest";
import { readWindow, writeWindow } from "./hours";

describe("windows of a week", () => {
  it.each([
    ["mon-fri 08:00-18:00", "mon,tue,wed,thu,fri 08:00-18:00"],
    ["mon,sat-sun 22:00-02:00", "mon,sat,sun 22:00-02:00"],
    ["sun 00:00-24:00", "sun 00:00-24:00"],
  ])("are read and written: %s", (told, taken) => {
    expect(writeWindow(readWindow(told))).toBe(taken);
  });

  it("say nothing without a day", () => {
    expect(writeWindow({ days: [], from: "08:00", until: "18:00" })).toBeUndefined();
  });
});
