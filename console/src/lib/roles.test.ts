import { expect, it } from "vitest";
import { may, roleName, rolesText } from "./roles";

it("lets each role do what those before may", () => {
  const crew = { role: "operator" as const, channels: [] };
  expect(may(crew, "observer")).toBe(true);
  expect(may(crew, "operator", "weir")).toBe(true);
  expect(may(crew, "engineer")).toBe(false);
  expect(roleName("engineer")).toBe("Engineer");
});

it("lets a role on a channel hold there", () => {
  const guest = { role: null, channels: [{ channel: "weir", role: "operator" as const }] };
  expect(may(guest, "operator", "weir")).toBe(true);
  expect(may(guest, "engineer", "weir")).toBe(false);
  expect(may(guest, "observer", "boathouse")).toBe(false);
  expect(may(guest, "observer")).toBe(false);
  expect(rolesText({ ...guest, role: "observer" })).toBe("Observer, Operator on weir");
});
