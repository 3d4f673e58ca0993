import type { SetupReview, SetupWanted } from "../../api/types";
import { EmptyNote } from "../../components/Notes";
import { count } from "../../lib/format";
import { Section } from "../channel/Section";
import { Changes } from "./Changes";
import { sumText, thingText } from "./told";

type Props = {
  review: SetupReview;
  isBusy: boolean;
  onLine: (line: number) => void;
  onSecret: (reference: string, value: string) => void;
  onReview: () => void;
  onApply: () => void;
};

function Faults({ faults, onLine }: { faults: SetupReview["faults"]; onLine: (line: number) => void }) {
  return (
    <ul className="divide-y divide-base-300">
      {faults.map((fault) => (
        <li key={`${fault.line} ${fault.column} ${fault.at}`} className="flex gap-4 px-4 py-2.5 text-sm sm:px-5">
          <button type="button" className="link w-24 shrink-0 text-left font-mono text-xs" onClick={() => onLine(fault.line)}>
            line {fault.line}, {fault.column}
          </button>
          <p>
            {fault.at && <span className="font-mono text-base-content/70 [overflow-wrap:anywhere]">{fault.at}: </span>}
            {fault.text}
          </p>
        </li>
      ))}
    </ul>
  );
}

function Missing({ wanted, isOpen, onSecret, onReview }: { wanted: SetupWanted[]; isOpen: boolean } & Pick<Props, "onSecret" | "onReview">) {
  return (
    <details className="panel space-y-3 px-4 py-3 sm:px-5" open={isOpen}>
      <summary className="cursor-pointer text-sm font-medium">
        {count(wanted.length, "secret that the file refers to was", "secrets that the file refers to were")} not given
      </summary>
      <p className="text-sm text-base-content/75">Those that the house has already stay as they are if you give none.</p>
      {wanted.map(({ reference, at }) => (
        <label key={`${reference} ${at}`} className="block">
          <span className="text-sm font-medium [overflow-wrap:anywhere]">{at}</span>
          <span className="ml-2 font-mono text-xs text-base-content/65 [overflow-wrap:anywhere]">{reference}</span>
          <input className="input mt-1 w-full" type="password" autoComplete="off" onChange={(event) => onSecret(reference, event.target.value)} />
        </label>
      ))}
      <button type="button" className="btn btn-sm" onClick={onReview}>
        Review with these
      </button>
    </details>
  );
}

/** What a file would change, what of it cannot be, and what is missing. */
export function Reviewed({ review, isBusy, onLine, onSecret, onReview, onApply }: Props) {
  const missing = review.wanted.filter((wanted) => !wanted.is_given);
  const canApply = review.faults.length === 0 && review.changes.length > 0;
  const apply = canApply && (
    <button type="button" className="btn btn-primary btn-sm" disabled={isBusy} onClick={onApply}>
      Apply these
    </button>
  );
  return (
    <>
      {review.faults.length > 0 && (
        <Section title={review.faults.length === 1 ? "One fault: nothing can be applied" : `${review.faults.length} faults: nothing can be applied`}>
          <Faults faults={review.faults} onLine={onLine} />
        </Section>
      )}
      <Section title="What would change" action={apply}>
        {review.changes.length === 0 && <EmptyNote title={review.faults.length > 0 ? "Mend the faults first." : "The house is as the file says."} />}
        {review.changes.length > 0 && <p className="border-b border-base-300 px-4 py-2 text-sm text-base-content/75 sm:px-5">{sumText(review.changes)}. Nothing is changed yet.</p>}
        <Changes changes={review.changes} onLine={onLine} />
        {[...review.remarks, ...(review.unlisted.length > 0 ? [`Not in the file, and left alone: ${review.unlisted.map(thingText).join(", ")}.`] : [])].map((remark) => (
          <p key={remark} className="border-t border-base-300 px-4 py-2.5 text-sm text-base-content/75 sm:px-5">
            {remark}
          </p>
        ))}
      </Section>
      {missing.length > 0 && <Missing wanted={missing} isOpen={review.faults.length > 0} onSecret={onSecret} onReview={onReview} />}
    </>
  );
}
