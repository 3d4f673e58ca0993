import { type ChangeEvent, useRef, useState } from "react";
import { useApplySetup, useExportSetup, useReviewSetup } from "../../api/setup";
import { ErrorNote } from "../../components/Notes";
import { Section } from "../channel/Section";
import { Done } from "./Done";
import { Reviewed } from "./Reviewed";
import { lineSpan } from "./told";

function save(text: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "application/toml" }));
  link.download = "waverant-setup.toml";
  link.click();
  URL.revokeObjectURL(link.href);
}

/** The house as one file: fetched, changed, reviewed, applied. */
export function SetUpPage() {
  const [text, setText] = useState("");
  const [removesUnlisted, setRemovesUnlisted] = useState(false);
  const secrets = useRef(new Map<string, string>());
  const area = useRef<HTMLTextAreaElement>(null);
  const [fetched, review, apply] = [useExportSetup(), useReviewSetup(), useApplySetup()];
  const form = () => ({
    text,
    removes_unlisted: removesUnlisted,
    secrets: [...secrets.current].filter(([, value]) => value !== "").map(([reference, value]) => ({ reference, value })),
  });
  const forget = () => {
    review.reset();
    apply.reset();
  };
  const onText = (changed: string) => {
    setText(changed);
    forget();
  };
  const onFile = (event: ChangeEvent<HTMLInputElement>) => void event.target.files?.[0]?.text().then(onText);
  const onFetch = () => fetched.mutate(undefined, { onSuccess: (file) => onText(file.text) });
  const onReview = () => {
    apply.reset();
    review.mutate(form());
  };
  const onApply = () => apply.mutate({ ...form(), reviewed: review.data?.mark }, { onSuccess: () => review.reset() });
  const onLine = (line: number) => {
    const field = area.current;
    if (!field) return;
    field.focus();
    field.setSelectionRange(...lineSpan(text, line));
    field.scrollTop = Math.max(0, line - 5) * parseFloat(getComputedStyle(field).lineHeight);
    field.scrollIntoView({ block: "nearest" });
  };
  const error = fetched.error ?? review.error ?? apply.error;
  const action = (
    <span className="flex flex-wrap justify-end gap-2">
      <button type="button" className="btn btn-sm" disabled={fetched.isPending} onClick={onFetch}>
        Show this house
      </button>
      <button type="button" className="btn btn-sm" disabled={text === ""} onClick={() => save(text)}>
        Save as a file
      </button>
      <label className="btn btn-sm">
        Open a file
        <input type="file" accept=".toml,application/toml,text/plain" className="sr-only" onChange={onFile} />
      </label>
    </span>
  );
  return (
    <>
      <h1 className="text-2xl font-semibold tracking-tight">Set-up file</h1>
      <p className="mb-5 max-w-prose text-sm text-base-content/70">
        The house as one file: channels with their keys by label, destinations, depots, links, other systems, people&apos;s roles. Keep it where you keep such things, and make this house, or another one, as it says. What a file does not
        list is left alone.
      </p>
      <div className="space-y-5">
        <Section title="The file" action={action}>
          <div className="space-y-3 p-4 sm:p-5">
            <textarea
              ref={area}
              aria-label="The file"
              className="textarea h-80 w-full font-mono text-xs leading-5 whitespace-pre"
              spellCheck={false}
              placeholder={'[channels.finish-line]\ntitle = "Finish line"'}
              value={text}
              onChange={(event) => onText(event.target.value)}
            />
            <div className="flex flex-wrap items-center justify-between gap-3">
              <label className="flex items-center gap-2 text-sm">
                <input type="checkbox" className="checkbox checkbox-sm" checked={removesUnlisted} onChange={(event) => (setRemovesUnlisted(event.target.checked), forget())} />
                Remove what the house has of a kind that the file lists, and the file does not list
              </label>
              <button type="button" className="btn btn-primary btn-sm" disabled={text === "" || review.isPending} onClick={onReview}>
                Review
              </button>
            </div>
            {error && <ErrorNote error={error} />}
          </div>
        </Section>
        {review.data && (
          <Reviewed review={review.data} isBusy={apply.isPending} onLine={onLine} onSecret={(reference, value) => secrets.current.set(reference, value)} onReview={onReview} onApply={onApply} />
        )}
        {apply.data && <Done applied={apply.data} />}
      </div>
    </>
  );
}
