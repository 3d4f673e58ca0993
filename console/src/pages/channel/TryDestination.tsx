import { Check, X } from "lucide-react";
import { useEffect } from "react";
import { useTryDestination } from "../../api/queries";
import { Dialog } from "../../components/Dialog";
import { ErrorNote, LoadingNote } from "../../components/Notes";

/** Goes step by step to a destination, without going live. */
export function TryDestination({ name, onClose }: { name: string; onClose: () => void }) {
  const attempt = useTryDestination(name);
  const { mutate } = attempt;
  useEffect(() => mutate(false), [mutate]);
  const onPublish = () => {
    if (window.confirm(`Show ${name} the key and ask it to take a stream? It may tell the world that a show begins.`)) mutate(true);
  };
  return (
    <Dialog title={`Try ${name}`} onClose={onClose}>
      {attempt.isPending && <LoadingNote />}
      {attempt.error && <ErrorNote error={attempt.error} />}
      {attempt.data && (
        <>
          <ol className="divide-y divide-base-300">
            {attempt.data.steps.map((step) => (
              <li key={step.step} className="flex items-baseline gap-3 py-2 text-sm">
                {step.is_good ? (
                  <Check aria-label="well" className="size-4 shrink-0 self-center text-success" />
                ) : (
                  <X aria-label="failed" className="size-4 shrink-0 self-center text-error" />
                )}
                <span className="w-24 shrink-0 font-medium">{step.step}</span>
                <span className="flex-1 break-words">{step.outcome}</span>
                <span className="whitespace-nowrap text-base-content/65">{step.took_ms} ms</span>
              </li>
            ))}
          </ol>
          {attempt.data.breaches.map((breach) => (
            <p key={breach} className="mt-2 text-sm text-warning">
              Limits sheet: {breach}
            </p>
          ))}
          <p className="mt-3 font-medium">
            {attempt.data.is_good ? "All steps went well." : "It would not take a show. The last step says why."}
          </p>
        </>
      )}
      <div className="modal-action">
        <button type="button" className="btn" disabled={attempt.isPending} onClick={onPublish}>
          Try the key too
        </button>
        <button type="button" className="btn btn-primary" onClick={onClose}>
          Done
        </button>
      </div>
    </Dialog>
  );
}
