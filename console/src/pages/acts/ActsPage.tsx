import { Download } from "lucide-react";
import { type FormEvent, useState } from "react";
import { type ActFilter, useActs } from "../../api/queries";
import { Field, fieldText } from "../../components/Field";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { Select } from "../../components/Select";
import { ActTable } from "./ActTable";
import { inApi } from "../../api/place";

const OUTCOMES = [
  ["", "Any"],
  ["done", "Done"],
  ["refused", "Refused"],
  ["failed", "Failed"],
] as const;

const FIELDS = ["person", "channel", "what", "outcome"] as const;

/** What the form asks for; what is left empty does not matter. */
function asked(form: HTMLFormElement): ActFilter {
  const filled = FIELDS.map((name) => [name, fieldText(form, name)] as const).filter(([, text]) => text !== "");
  // An operation is found by its words, too.
  return Object.fromEntries(filled.map(([name, text]) => [name, name === "what" ? text.toLowerCase().replaceAll(" ", "_") : text]));
}

export function ActsPage() {
  const [filter, setFilter] = useState<ActFilter>({});
  const list = useActs(filter);
  const acts = list.data?.pages.flatMap((page) => page.items) ?? [];
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    setFilter(asked(event.currentTarget));
  };
  return (
    <>
      <div className="mb-5 flex flex-wrap items-start justify-between gap-3">
        <div>
          <h1 className="text-2xl font-semibold tracking-tight">Who did what</h1>
          <p className="text-sm text-base-content/70">Every change, reveal, sign-in and refusal, the newest first. Nothing here can be changed.</p>
        </div>
        <a className="btn btn-sm" href={inApi(`/acts.jsonl?${new URLSearchParams(filter as Record<string, string>)}`)} download>
          <Download aria-hidden className="size-4" /> Export as JSON lines
        </a>
      </div>
      <form onSubmit={onSubmit} className="panel mb-5 grid items-end gap-3 p-4 sm:grid-cols-2 lg:grid-cols-[1fr_1fr_1fr_1fr_auto]">
        <Field label="Person" name="person" />
        <Field label="Channel" name="channel" />
        <Field label="What" name="what" placeholder="change channel" />
        <Select label="Outcome" name="outcome" options={OUTCOMES} />
        <button type="submit" className="btn btn-primary">
          Show
        </button>
      </form>
      {list.isPending && <LoadingNote />}
      {list.error && <ErrorNote error={list.error} />}
      {list.data && acts.length === 0 && (
        <div className="panel">
          <EmptyNote title="Nothing of that kind was done." />
        </div>
      )}
      {acts.length > 0 && (
        <div className="panel overflow-x-auto">
          <ActTable acts={acts} hasChannel />
        </div>
      )}
      {list.hasNextPage && (
        <button type="button" className="btn btn-sm mt-4" disabled={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
          Older
        </button>
      )}
    </>
  );
}
