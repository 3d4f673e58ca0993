import { describe, expect, it } from "vitest";
import { callText, formatWord, standing, templateOf } from "./callForm";

const one = { tries: 0, took_ms: null, status: null, next_at: null, fault: null };

describe("what is told of a delivery", () => {
  it.each([
    [{ ...one, state: "delivered" as const, tries: 1, took_ms: 12, status: 204 }, "204, 12 ms"],
    [{ ...one, state: "delivered" as const, tries: 1, took_ms: 80 }, "80 ms"],
    [{ ...one, state: "waiting" as const }, "for its turn"],
    [{ ...one, state: "waiting" as const, tries: 3, fault: "it answered 500" }, "tried 3×, next soon: it answered 500"],
    [{ ...one, state: "given_up" as const, tries: 80, fault: "closed" }, "after 80 tries: closed"],
  ])("%o", (delivery, expected) => {
    expect(standing(delivery)).toBe(expected);
  });
});

describe("a call", () => {
  it("is shown as it is made", () => {
    const request = { address: "https://a.example/…", headers: [{ name: "webhook-id", value: "evt_1" }], body: '{"a":1}' };
    expect(callText(request)).toBe('POST https://a.example/…\nwebhook-id: evt_1\n\n{\n  "a": 1\n}');
  });

  it("has a form", () => {
    expect(formatWord(undefined)).toBe("event");
    expect(formatWord({ form: "text", content_type: "text/plain", template: "x" })).toBe("text/plain");
    expect(templateOf({ form: "event" })).toContain("{{ text }}");
  });
});
