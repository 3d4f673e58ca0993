import type { FormEvent } from "react";
import { useComplaint } from "../../api/queries";
import type { ComplaintAnswer, LikelyFinding } from "../../api/types";
import { ErrorNote } from "../../components/Notes";
import { Section } from "../channel/Section";

function Likely({ likely }: { likely: LikelyFinding }) {
  const { meaning, stands_on: stands, figures } = likely;
  return (
    <li className="px-5 py-3 text-sm">
      <p className="flex flex-wrap items-baseline gap-x-3">
        <span className="font-semibold">{meaning.code.replaceAll("_", " ")}</span>
        <span className={stands.length > 0 ? "font-medium text-warning" : "text-base-content/65"}>
          {stands.length > 0 ? `stands on ${stands.join(", ")}` : "not found now"}
        </span>
      </p>
      <p className="mt-1">
        Usually: {meaning.means}. To do: {meaning.advice}.
      </p>
      {figures.map((figure) => (
        <p key={figure} className="mt-1 text-base-content/75">
          {figure}
        </p>
      ))}
    </li>
  );
}

function Answer({ answer }: { answer: ComplaintAnswer }) {
  if (answer.likely.length === 0) {
    return <p className="px-5 pb-4 text-sm text-base-content/75">No word of that is known here. What stands now is above.</p>;
  }
  return (
    <ol className="divide-y divide-base-300 border-t border-base-300" aria-label="What it may be">
      {answer.likely.map((likely) => (
        <Likely key={likely.meaning.code} likely={likely} />
      ))}
    </ol>
  );
}

/** A platform's complaint in its own words, and what it may be. */
export function Ask({ channels }: { channels: string[] }) {
  const ask = useComplaint();
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    ask.mutate({ complaint: String(form.get("complaint")), channel: String(form.get("channel")) || null });
  };
  return (
    <Section title="A platform complains">
      <form onSubmit={onSubmit} className="flex flex-wrap items-end gap-3 px-5 py-4">
        <label className="min-w-64 flex-1 text-sm">
          In its own words
          <input name="complaint" required maxLength={500} className="input mt-1 w-full" placeholder="keyframe interval too long" />
        </label>
        <label className="text-sm">
          On
          <select name="channel" className="select mt-1" defaultValue="">
            <option value="">all channels</option>
            {channels.map((channel) => (
              <option key={channel}>{channel}</option>
            ))}
          </select>
        </label>
        <button type="submit" className="btn btn-primary" disabled={ask.isPending}>
          Ask
        </button>
      </form>
      {ask.error && <ErrorNote error={ask.error} />}
      {ask.data && <Answer answer={ask.data} />}
    </Section>
  );
}
