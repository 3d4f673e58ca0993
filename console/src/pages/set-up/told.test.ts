import { describe, expect, it } from "vitest";
import { fieldText, lineSpan, sumText, thingText } from "./told";

describe("what a set-up changes", () => {
  it("is told in words", () => {
    expect(thingText({ kind: "key", name: "van", channel: "weir" })).toBe("key van of weir");
    expect(thingText({ kind: "channel", name: "weir" })).toBe("channel weir");
    expect(fieldText({ field: "hold_ms", after: "700" }, "adds")).toEqual({ after: "700" });
    expect(fieldText({ field: "hold_ms", before: "700" }, "changes")).toEqual({ before: "700", after: "its usual value" });
    const change = { thing: { kind: "channel", name: "weir" }, fields: [], on_air: [] };
    expect(sumText([{ ...change, deed: "adds" }, { ...change, deed: "removes" }])).toBe("1 added, 0 changed, 1 removed");
  });

  it("is found in the file", () => {
    const text = "form = 1\n[channels.weir]\nhold_ms = 7";
    expect(text.slice(...lineSpan(text, 2))).toBe("[channels.weir]");
    expect(text.slice(...lineSpan(text, 3))).toBe("hold_ms = 7");
    expect(lineSpan(text, 9)).toEqual([text.length + 1, text.length + 1]);
  });
});
