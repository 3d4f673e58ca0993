import { useState } from "react";
import { useLog } from "../../api/queries";
import type { LogLine } from "../../api/types";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { Section } from "../channel/Section";

const LEVELS = ["error", "warn", "info", "debug", "trace"] as const;

const TONES: Record<string, string> = { error: "text-error", warn: "text-warning" };

/** What a line says beside its text. */
function beside({ channel, fields }: LogLine): string {
  const all = { ...(channel ? { channel } : {}), ...fields };
  return Object.entries(all)
    .map(([name, value]) => `${name}=${value}`)
    .join(" ");
}

function Line({ line }: { line: LogLine }) {
  return (
    <li className="flex gap-3 px-4 py-1 font-mono text-xs sm:px-5">
      <time className="shrink-0 text-base-content/60">{line.at.slice(11, 19)}</time>
      <span className={`w-10 shrink-0 ${TONES[line.level] ?? "text-base-content/60"}`}>{line.level}</span>
      <span className="min-w-0 break-words">
        {line.text} <span className="text-base-content/65">{beside(line)}</span>
      </span>
    </li>
  );
}

/** The newest lines of the service's log, with a filter; they follow by themselves. */
export function LogLines() {
  const [level, setLevel] = useState<string>("info");
  const [text, setText] = useState("");
  const log = useLog({ level, text: text || undefined });
  const filter = (
    <div className="flex gap-2">
      <select className="select select-sm w-24" aria-label="At least" value={level} onChange={(event) => setLevel(event.target.value)}>
        {LEVELS.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </select>
      <input className="input input-sm w-40" placeholder="only with …" aria-label="Only lines with" value={text} onChange={(event) => setText(event.target.value)} />
    </div>
  );
  return (
    <Section title="Log" action={filter}>
      {log.isPending && <LoadingNote />}
      {log.error && <ErrorNote error={log.error} />}
      {log.data && (
        <ol className="max-h-96 overflow-y-auto py-2" aria-label="Lines">
          {[...log.data.items].reverse().map((line) => (
            <Line key={line.number} line={line} />
          ))}
          {log.data.items.length === 0 && <li className="px-5 py-2 text-sm text-base-content/65">No such line.</li>}
        </ol>
      )}
    </Section>
  );
}
