import { Lamp } from "../../components/Lamp";
import { count } from "../../lib/format";
import type { Summary, Tone } from "../../lib/state";

function verdict(summary: Summary): { tone: Tone; text: string; more: string } {
  const { onAir, holding, carrying, wanted, findings, hasAlarm } = summary;
  const found = findings > 0 ? [count(findings, "finding", "findings")] : [];
  const legs = [`${carrying} of ${count(wanted, "leg carries", "legs carry")}`, ...found].join(" · ");
  if (holding > 0) return { tone: "trouble", text: `${count(holding, "channel waits", "channels wait")} for an encoder`, more: legs };
  if (onAir === 0) return { tone: "idle", text: "Nothing is on air", more: "" };
  const text = `${count(onAir, "channel", "channels")} on air`;
  const tone = hasAlarm ? "bad" : carrying < wanted || findings > 0 ? "trouble" : "good";
  if (wanted === 0) return { tone, text, more: ["no destinations are on", ...found].join(" · ") };
  return { tone, text, more: legs };
}

/** Are we on air, is it good, does everyone get it: in one line. */
export function Headline({ summary }: { summary: Summary }) {
  const { tone, text, more } = verdict(summary);
  return (
    <h1 className="flex flex-wrap items-baseline gap-x-3 text-2xl font-semibold tracking-tight">
      <span className="flex items-center gap-3">
        <Lamp tone={tone} large />
        {text}
      </span>
      {more && <span className="text-base font-normal text-base-content/70">{more}</span>}
    </h1>
  );
}
