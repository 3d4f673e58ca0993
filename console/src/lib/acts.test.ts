import { expect, test } from "vitest";
import { byText, changes, onText, whatText } from "./acts";

test("an act is told in words", () => {
  expect(whatText({ what: "switch_destination" })).toBe("Switch destination");
  expect(byText({ by: "program", token: "score board" })).toBe("token score board");
  expect(byText({ by: "stranger", token: "" })).toBe("not signed in");
  expect(onText({ channel: "weir", subject: "destination plovio" })).toBe("weir, destination plovio");
  expect(onText({ channel: null, subject: "" })).toBe("–");
});

test("what changed is told field by field", () => {
  expect(changes({ before: { title: "Weir", hold_ms: 10000 }, after: { title: "", hold_ms: 2500 } })).toEqual([
    { field: "title", before: "Weir", after: "(empty)" },
    { field: "hold ms", before: "10000", after: "2500" },
  ]);
  expect(changes({ before: null, after: { is_on: true } })).toEqual([{ field: "is on", before: undefined, after: "true" }]);
  expect(changes({ before: { title: "Weir" }, after: null })).toEqual([{ field: "title", before: "Weir", after: undefined }]);
  expect(changes({ before: null, after: null })).toEqual([]);
  const made = { title: "Weir", tags: [], server: null, recording: { format: "matroska", depot: null } };
  expect(changes({ before: null, after: made }).map(({ field, after }) => [field, after])).toEqual([
    ["title", "Weir"],
    ["recording format", "matroska"],
  ]);
  const roles = (role: string) => ({ channels: [{ channel: "weir", role }], rules: { takeover: "refuse" } });
  expect(changes({ before: roles("observer"), after: roles("operator") })).toEqual([
    { field: "channels", before: '{"channel":"weir","role":"observer"}', after: '{"channel":"weir","role":"operator"}' },
  ]);
});
