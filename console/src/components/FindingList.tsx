import { BellOff, CircleAlert, Info, TriangleAlert, Wrench } from "lucide-react";
import type { Finding } from "../api/types";
import { ago } from "../lib/format";

// A severity that is new in the API does not compile here until it has its looks.
const LOOKS: Record<Finding["severity"], { Icon: typeof Info; tone: string; label: string }> = {
  alarm: { Icon: CircleAlert, tone: "text-error", label: "Alarm" },
  warning: { Icon: TriangleAlert, tone: "text-warning", label: "Warning" },
  note: { Icon: Info, tone: "text-base-content/60", label: "Note" },
};

type Mute = (code: string) => void;

type Ask = (finding: Finding) => void;

/** What is offered, in few words; all of it is said before it is done. */
const REMEDIES: Record<string, string> = {
  add_silence: "Add silence",
  send_track: "Send a track that fits",
  leg_latency: "Set the latency",
  channel_latency: "Set the latency",
};

/** One finding: what was found, what to do, who suffers. */
export function FindingLine({ finding, of, onMute, onRemedy }: { finding: Finding; of?: string; onMute?: Mute; onRemedy?: Ask }) {
  const { Icon, tone, label } = LOOKS[finding.severity];
  const { since, destinations } = finding;
  return (
    <li className="flex gap-3 px-4 py-2.5 text-sm sm:px-5">
      <Icon role="img" aria-label={label} className={`mt-0.5 size-4 shrink-0 ${tone}`} />
      <div className="min-w-0 flex-1">
        <p className="font-medium">
          {of && <span className="mr-2 font-mono text-xs font-normal text-base-content/65">{of}</span>}
          <span className="inline-block first-letter:uppercase">{finding.cause}</span>
        </p>
        <p className="mt-0.5 text-base-content/75">
          <span className="inline-block first-letter:uppercase">{finding.advice}</span>
        </p>
        {finding.remedy && onRemedy && (
          <button type="button" className="btn btn-xs mt-1.5" onClick={() => onRemedy(finding)}>
            <Wrench aria-hidden className="size-3.5" /> {REMEDIES[finding.remedy.kind] ?? "Have it done"}
          </button>
        )}
      </div>
      <div className="flex shrink-0 flex-col items-end gap-1 text-xs text-base-content/65">
        {since && <span className="whitespace-nowrap">{ago(since)}</span>}
        {destinations.length > 0 && <span className="max-w-40 text-right">{destinations.join(", ")}</span>}
      </div>
      {onMute && (
        <button type="button" className="btn btn-ghost btn-square btn-xs" title="Not for the rest of this show" aria-label={`Mute ${finding.code}`} onClick={() => onMute(finding.code)}>
          <BellOff className="size-3.5" />
        </button>
      )}
    </li>
  );
}

/** What is wrong or odd, the worst first; what is muted is only counted. */
export function FindingList({ findings, onMute, onUnmute, onRemedy }: { findings: Finding[]; onMute?: Mute; onUnmute?: Mute; onRemedy?: Ask }) {
  const told = findings.filter((finding) => !finding.is_muted);
  const muted = [...new Set(findings.filter((finding) => finding.is_muted).map(({ code }) => code))];
  if (findings.length === 0) return null;
  return (
    <div className="border-b border-base-300">
      <ul aria-label="Findings" className="divide-y divide-base-300/70">
        {told.map((finding) => (
          <FindingLine key={`${finding.code} ${finding.track} ${finding.destination}`} finding={finding} onMute={onMute} onRemedy={onRemedy} />
        ))}
      </ul>
      {muted.length > 0 && (
        <p className="flex flex-wrap items-center gap-2 px-4 py-2 text-xs text-base-content/65 sm:px-5">
          Muted for this show:
          {muted.map((code) => (
            <button key={code} type="button" className="link" disabled={!onUnmute} onClick={() => onUnmute?.(code)}>
              {code.replaceAll("_", " ")}
            </button>
          ))}
        </p>
      )}
    </div>
  );
}
