import type { LiveLeg } from "../../api/types";
import { legTone, type Tone } from "../../lib/state";

const STROKES: Record<Tone, string> = {
  good: "stroke-success",
  trouble: "stroke-warning",
  bad: "stroke-error",
  idle: "stroke-base-300",
};

const WIDTH = 72;

/** The stream parting into its legs; water runs in those that carry. */
export function Delta({ legs, isLive }: { legs: LiveLeg[]; isLive: boolean }) {
  if (legs.length === 0) return <div className="hidden md:block" />;
  const height = legs.length * 100;
  const middle = height / 2;
  return (
    <div aria-hidden className="relative hidden md:block">
      <svg className="absolute inset-0 size-full" viewBox={`0 0 ${WIDTH} ${height}`} preserveAspectRatio="none">
      {legs.map((leg, place) => {
        const tone = isLive ? legTone(leg) : "idle";
        const end = place * 100 + 50;
        return (
          <path
            key={leg.destination}
            d={`M0 ${middle} C ${WIDTH * 0.55} ${middle}, ${WIDTH * 0.45} ${end}, ${WIDTH} ${end}`}
            className={`fill-none ${STROKES[tone]} ${tone === "good" ? "current" : ""}`}
            strokeWidth={tone === "good" ? 2.5 : 1.5}
            strokeDasharray={tone === "trouble" || tone === "bad" ? "3 5" : undefined}
            vectorEffect="non-scaling-stroke"
          />
        );
      })}
      </svg>
    </div>
  );
}
