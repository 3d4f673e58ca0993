import type { Act } from "../api/types";

/** An operation in words. */
export function whatText(act: Pick<Act, "what">): string {
  const words = act.what.replaceAll("_", " ");
  return words.charAt(0).toUpperCase() + words.slice(1);
}

/** By what it was done. */
export function byText({ by, token }: Pick<Act, "by" | "token">): string {
  switch (by) {
    case "program":
      return `token ${token}`;
    case "command_line":
      return "command line";
    case "stranger":
      return "not signed in";
    case "machine":
      return "the machine itself";
    default:
      return by;
  }
}

/** On what it was done. */
export function onText({ channel, subject }: Pick<Act, "channel" | "subject">): string {
  return [channel, subject].filter(Boolean).join(", ") || "–";
}

function valueText(value: unknown): string {
  if (Array.isArray(value)) return value.map(valueText).join(", ");
  return typeof value === "string" ? value || "(empty)" : JSON.stringify(value);
}

/** A field that changed: as it was, and as it is; each left out where there is none. */
export type Change = { field: string; before?: string; after?: string };

const isObject = (part: unknown): part is Record<string, unknown> => typeof part === "object" && part !== null && !Array.isArray(part);

/** The fields of an object and of the objects in it, by their names in words. */
function fields(part: unknown, above = ""): [string, unknown][] {
  if (!isObject(part)) return [];
  return Object.entries(part).flatMap(([name, value]) => {
    const field = `${above} ${name.replaceAll("_", " ")}`.trim();
    return isObject(value) ? fields(value, field) : [[field, value] as [string, unknown]];
  });
}

const isNothing = (value: unknown) => value === null || value === "" || (Array.isArray(value) && value.length === 0);

/** What changed, a field each. Of what was made or removed, only what says something. */
export function changes(act: { before?: unknown; after?: unknown }): Change[] {
  const [before, after] = [new Map(fields(act.before)), new Map(fields(act.after))];
  const isBoth = before.size > 0 && after.size > 0;
  const text = (part: Map<string, unknown>, name: string) => (part.has(name) ? valueText(part.get(name)) : undefined);
  return [...new Set([...before.keys(), ...after.keys()])]
    .filter((name) => (isBoth ? text(before, name) !== text(after, name) : !isNothing(before.get(name) ?? after.get(name) ?? null)))
    .map((field) => ({ field, before: text(before, field), after: text(after, field) }));
}
