import type { SetupChange, SetupField, SetupThing } from "../../api/types";

/** A thing in words, as in `key van of finish-line`. */
export function thingText({ kind, name, channel }: SetupThing): string {
  return channel ? `${kind} ${name} of ${channel}` : `${kind} ${name}`;
}

/** What a field was and is to be. Of what is new there is nothing before. */
export function fieldText(field: SetupField, deed: SetupChange["deed"]): { before?: string; after: string } {
  const usual = "its usual value";
  const after = field.after ?? usual;
  if (deed === "adds" && field.before == null) return { after };
  return { before: field.before ?? usual, after };
}

/** How many of each, as in `2 added, 1 changed, 0 removed`. */
export function sumText(changes: SetupChange[]): string {
  const count = (deed: SetupChange["deed"]) => changes.filter((change) => change.deed === deed).length;
  return `${count("adds")} added, ${count("changes")} changed, ${count("removes")} removed`;
}

/** Where a line of a text begins and ends. */
export function lineSpan(text: string, line: number): [number, number] {
  const lines = text.split("\n");
  const start = lines.slice(0, line - 1).reduce((sum, one) => sum + one.length + 1, 0);
  return [start, start + (lines[line - 1]?.length ?? 0)];
}
