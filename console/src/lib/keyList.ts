import type { AddKey } from "../api/types";

/** Reads lines of a label and, behind the last comma, a key. Labels may have commas where a key follows. */
export function readKeyList(text: string): { keys: AddKey[]; fault?: string } {
  const keys: AddKey[] = [];
  for (const [place, line] of text.split("\n").entries()) {
    if (!line.trim()) continue;
    const comma = line.lastIndexOf(",");
    const label = (comma < 0 ? line : line.slice(0, comma)).trim();
    const key = comma < 0 ? "" : line.slice(comma + 1).trim();
    if (!label) return { keys: [], fault: `Line ${place + 1} does not say for whom the key is.` };
    keys.push({ label, key: key || null });
  }
  return keys.length > 0 ? { keys } : { keys, fault: "There is no line in it." };
}
