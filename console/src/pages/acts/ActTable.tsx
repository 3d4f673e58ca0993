import type { Act } from "../../api/types";
import { byText, type Change, changes, onText, whatText } from "../../lib/acts";
import { count, moment } from "../../lib/format";

/** What people did, a row each. */
export function ActTable({ acts, hasChannel }: { acts: readonly Act[]; hasChannel: boolean }) {
  return (
    <table className="table table-sm">
      <thead>
        <tr>
          <th>When</th>
          <th>Who</th>
          <th>What</th>
          <th>On</th>
          <th>Changed</th>
        </tr>
      </thead>
      <tbody>
        {acts.map((act) => (
          <tr key={act.id} className="align-top">
            <td className="whitespace-nowrap tabular-nums">{moment(act.at)}</td>
            <td>
              <span className="block font-medium">{act.person || "–"}</span>
              <span className="block text-xs text-base-content/65">
                {byText(act)}
                {act.address && <span className="font-mono"> {act.address}</span>}
              </span>
            </td>
            <td>
              {whatText(act)}
              {act.outcome !== "done" && (
                <span className={`block text-xs ${act.outcome === "refused" ? "text-warning" : "text-error"}`}>
                  {act.outcome}
                  {act.reason && `: ${act.reason.replaceAll("_", " ")}`}
                </span>
              )}
            </td>
            <td className="break-words">{hasChannel ? onText(act) : act.subject || "–"}</td>
            <td className="max-w-sm break-words">
              <Changes act={act} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** So many fields are told at once; the others on request. */
const SHORT = 4;

function Changes({ act }: { act: Act }) {
  const all = changes(act);
  const rest = all.slice(SHORT);
  return (
    <div className="text-xs">
      <ChangeList changes={all.slice(0, SHORT)} />
      {rest.length > 0 && (
        <details>
          <summary className="cursor-pointer text-base-content/65 hover:underline">{count(rest.length, "field more", "fields more")}</summary>
          <ChangeList changes={rest} />
        </details>
      )}
    </div>
  );
}

function ChangeList({ changes }: { changes: readonly Change[] }) {
  return (
    <dl>
      {changes.map(({ field, before, after }) => (
        <div key={field} className="flex flex-wrap gap-x-1.5">
          <dt className="text-base-content/65">{field}</dt>
          <dd className="min-w-0 [overflow-wrap:anywhere]">
            {before !== undefined && <span className="line-through decoration-base-content/40">{before}</span>}
            {before !== undefined && after !== undefined && <span aria-label="became"> → </span>}
            {after}
          </dd>
        </div>
      ))}
    </dl>
  );
}
