import { describe, expect, it } from "vitest";
import { aboutOf, legible } from "./systemForm";

describe("about whom a system is asked", () => {
  it.each([
    [true, false, "publishers"],
    [false, true, "players"],
    [true, true, "both"],
  ])("publishers %s, players %s", (publishers, players, about) => {
    expect(aboutOf({ publishers, players })).toBe(about);
  });
});

describe("what a system says", () => {
  it("is set out where it is JSON, and left alone where it is not", () => {
    expect(legible('{"a":1}')).toBe('{\n  "a": 1\n}');
    expect(legible("<html>")).toBe("<html>");
    expect(legible("")).toBe("");
  });
});
