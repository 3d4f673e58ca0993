import type { LiveLine } from "../../api/types";
import { Sparkline } from "../../components/Sparkline";
import { Fact } from "./Fact";

export const percent = (share: number) => `${(share * 100).toFixed(share < 0.1 ? 2 : 1)} %`;

/** Steps of two seconds, sixty at most: the share of packets that were missing at first. */
function losses({ points }: LiveLine): number[] {
  const count = Math.min(60, Math.floor((points[0]?.age_ms ?? 0) / 2000) + 1);
  const steps = new Array<number>(count).fill(0);
  for (const point of points) {
    const place = count - 1 - Math.floor(point.age_ms / 2000);
    const before = steps[place];
    if (before !== undefined) steps[place] = Math.max(before, point.loss_share * 100);
  }
  return steps;
}

/** The line of an encoder that comes over SRT: what is lost on it, and whether the latency is enough. */
export function LineFacts({ line }: { line: LiveLine }) {
  return (
    <section aria-label="SRT line" className="mt-3 rounded-field bg-base-200 p-2 text-sm">
      <div className="flex items-center justify-between gap-3">
        <h3 className="text-xs font-semibold text-base-content/80">SRT line</h3>
        <Sparkline values={losses(line)} label={`Packets lost at first over two minutes, now ${percent(line.loss_share)}`} />
      </div>
      <dl className="mt-1 space-y-0.5">
        <Fact label="Lost at first" value={percent(line.loss_share)} />
        <Fact label="Sent again" value={percent(line.retransmit_share)} />
        <Fact label="Too late" value={String(line.dropped_packet_count)} />
        <Fact label="Round trip" value={`${line.rtt_ms.toFixed(line.rtt_ms < 10 ? 1 : 0)} ms`} />
        <Fact label="Buffer" value={`${line.buffered_ms} of ${line.latency_ms} ms`} />
      </dl>
    </section>
  );
}
