import { describe, expect, it } from "vitest";
import type { Recording } from "../api/types";
import { dayBounds, fileName, playable, recordingRule } from "./recording";

const rules: Recording = {
  when: "always",
  format: "mp4",
  split_ms: 0,
  split_bytes: 0,
  split_at_return: false,
  names: "",
  pre_roll_ms: 0,
  keep_s: 0,
  keep_count: 0,
  keep_bytes: 0,
  removes_copied: false,
};

describe("recordings", () => {
  it("tells rules in one line", () => {
    expect(recordingRule(rules)).toBe("records every session, as MP4");
    expect(recordingRule({ ...rules, when: "off" })).toBe("does not record");
    const all: Recording = { ...rules, when: "by_hand", format: "matroska", split_ms: 600_000, split_bytes: 2e9, keep_s: 86_400, depot: "attic", removes_copied: true };
    expect(recordingRule(all)).toBe("records when started by hand, as Matroska, split every 10:00, split at 2.00 GB, kept 1 day, moved to attic");
  });

  it("plays Matroska as MP4", () => {
    expect(playable({ session: 3, number: 2, path: "a/b.mkv" })).toBe("/api/v1/takes/3/2/mp4");
    expect(playable({ session: 3, number: 2, path: "a/b.mp4" })).toBe("/api/v1/takes/3/2/file");
    expect(fileName("a/b.mp4")).toBe("b.mp4");
  });

  it("knows where a day begins and ends", () => {
    const bounds = dayBounds("2026-05-17");
    expect(Date.parse(bounds?.until ?? "") - Date.parse(bounds?.from ?? "")).toBe(86_400_000);
    expect(dayBounds("soon")).toBeUndefined();
  });
});
