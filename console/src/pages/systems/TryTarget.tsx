import { useTryCallTarget } from "../../api/calls";
import { CodeBlock } from "../../components/CodeBlock";
import { Dialog } from "../../components/Dialog";
import { DoneAction } from "../../components/DoneAction";
import { ErrorNote } from "../../components/Notes";
import { callText } from "./callForm";
import { legible } from "./systemForm";

/** Tells a target that this is a test, and shows the call and what came back. */
export function TryTarget({ name, onClose }: { name: string; onClose: () => void }) {
  const attempt = useTryCallTarget(name);
  const { data: tried } = attempt;
  return (
    <Dialog title={`Try ${name}`} isWide onClose={onClose}>
      <p className="mb-4 text-sm text-base-content/75">It is told at once that this is a test, whatever waits for it.</p>
      <button type="button" className="btn btn-primary" disabled={attempt.isPending} onClick={() => attempt.mutate()}>
        {attempt.isPending ? "Telling" : "Tell it"}
      </button>
      <div className="mt-5 space-y-4" aria-live="polite">
        {attempt.error && <ErrorNote error={attempt.error} />}
        {tried && (
          <>
            <p className={`alert alert-soft text-sm ${tried.fault ? "alert-error" : "alert-success"}`}>{tried.fault ? `Not taken: ${tried.fault}.` : "Taken."}</p>
            <div className="grid gap-4 sm:grid-cols-2">
              {tried.request && <CodeBlock title="Call">{callText(tried.request)}</CodeBlock>}
              {tried.answer && <CodeBlock title={`Answer, after ${tried.answer.took_ms} ms`}>{`${tried.answer.status}\n\n${legible(tried.answer.body)}`}</CodeBlock>}
            </div>
          </>
        )}
      </div>
      <DoneAction onClose={onClose} />
    </Dialog>
  );
}
