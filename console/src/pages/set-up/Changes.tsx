import type { SetupChange } from "../../api/types";
import { fieldText, thingText } from "./told";

const DEEDS = {
  adds: { sign: "+", word: "added", colour: "text-success" },
  changes: { sign: "~", word: "changed", colour: "text-warning" },
  removes: { sign: "−", word: "removed", colour: "text-error" },
} as const;

/** Values that are longer than this are cut; the file has them whole. */
const LONGEST = 140;

function cut(value: string): string {
  return value.length > LONGEST ? `${value.slice(0, LONGEST)}…` : value;
}

function Fields({ change }: { change: SetupChange }) {
  return (
    <table className="mt-1 text-sm">
      <tbody>
        {change.fields.map((field) => {
          const { before, after } = fieldText(field, change.deed);
          return (
            <tr key={field.field} className="align-top">
              <th className="pr-4 text-left font-mono font-normal whitespace-nowrap text-base-content/70">{field.field}</th>
              <td className="font-mono [overflow-wrap:anywhere]">
                {before && <span className="text-base-content/60 line-through decoration-base-content/40">{cut(before)}</span>} {before && <span aria-label="becomes">→ </span>}
                {cut(after)}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

/** What would change, or was changed, thing by thing. */
export function Changes({ changes, onLine }: { changes: SetupChange[]; onLine?: (line: number) => void }) {
  return (
    <ul className="divide-y divide-base-300">
      {changes.map((change, place) => {
        const { sign, word, colour } = DEEDS[change.deed];
        const { line } = change;
        return (
          <li key={`${place} ${thingText(change.thing)}`} className="px-4 py-2.5 sm:px-5">
            <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1 text-sm">
              <span className={`font-mono font-semibold ${colour}`} aria-label={word}>
                {sign}
              </span>
              <span className="font-medium">{thingText(change.thing)}</span>
              {change.on_air.length > 0 && <span className="badge badge-error badge-sm">on air: {change.on_air.join(", ")}</span>}
              {line && onLine && (
                <button type="button" className="link ml-auto text-xs text-base-content/65" onClick={() => onLine(line)}>
                  line {line}
                </button>
              )}
            </div>
            {change.fields.length > 0 && <Fields change={change} />}
          </li>
        );
      })}
    </ul>
  );
}
