import type { TimelineMark } from "../api/types";
import { GUTTER } from "./Plot";

type Props = { marks: TimelineMark[]; range: readonly [number, number]; tell: (second: number) => string; origin: number; onZoom: (from: number, until: number) => void };

const shade = (mark: TimelineMark) => (mark.severity === "alarm" ? "bg-error" : mark.severity === "warning" ? "bg-warning" : mark.severity === "note" ? "bg-info" : "bg-base-content/55");

/** Findings as bars, and what happened as ticks; a click on one looks at the time around it. */
export function MarkLane({ marks, range, tell, origin, onZoom }: Props) {
  const length = Math.max(range[1] - range[0], 1);
  const at = (second: number) => Math.min(100, Math.max(0, (100 * (second - range[0])) / length));
  if (marks.length === 0) return null;
  return (
    <figure aria-label="Findings and events over time" className="break-inside-avoid">
      <figcaption className="text-sm font-medium" style={{ paddingLeft: GUTTER }}>
        Findings and events
      </figcaption>
      <div style={{ paddingLeft: GUTTER, paddingRight: 12 }}>
        <div className="relative h-5 rounded-sm bg-base-200">
          {marks.map((mark) => {
            const from = origin + mark.at_ms / 1000;
            const until = mark.code === null || mark.code === undefined ? from : mark.until_ms === null || mark.until_ms === undefined ? range[1] : origin + mark.until_ms / 1000;
            return (
              <button
                key={`${mark.at_ms} ${mark.text}`}
                type="button"
                title={`${tell(from)} ${mark.text}`}
                aria-label={`${tell(from)} ${mark.text}`}
                className={`absolute min-w-1 cursor-pointer rounded-sm ${mark.code ? "inset-y-1 opacity-80" : "inset-y-0"} ${shade(mark)}`}
                style={{ left: `${at(from)}%`, width: `${at(until) - at(from)}%` }}
                onClick={() => onZoom(from - 30, Math.max(until, from) + 30)}
              />
            );
          })}
        </div>
      </div>
    </figure>
  );
}
