import { runs, type StateBar } from "./lines";
import { GUTTER } from "./Plot";

const SHADES = { none: "", carried: "bg-success", partly: "bg-warning", lost: "bg-error" } as const;

const WORDS = { none: "not to be sent", carried: "carried", partly: "carried for a part", lost: "got nothing" } as const;

type Props = { bars: StateBar[]; start: number; step: number; range: readonly [number, number]; tell: (second: number) => string };

/** When each destination got the show. */
export function States({ bars, start, step, range, tell }: Props) {
  const length = Math.max(range[1] - range[0], 1);
  const at = (second: number) => Math.min(100, Math.max(0, (100 * (second - range[0])) / length));
  return (
    <figure className="break-inside-avoid space-y-1" aria-label="Destinations over time">
      <figcaption className="text-sm font-medium" style={{ paddingLeft: GUTTER }}>
        Destinations
      </figcaption>
      {bars.map((bar) => (
        <div key={bar.name} style={{ paddingLeft: GUTTER, paddingRight: 12 }}>
          <div className="text-xs text-base-content/75">{bar.name}</div>
          <div className={`relative h-2 overflow-hidden rounded-sm bg-base-300 ${bar.isBeside ? "opacity-60" : ""}`}>
            {runs(bar.carried)
              .filter(({ state }) => state !== "none")
              .map(({ from, until, state }) => {
                const [left, right] = [start + from * step, start + until * step];
                const title = `${bar.name}: ${WORDS[state]}, ${tell(left)} to ${tell(right)}`;
                return <div key={from} title={title} className={`absolute inset-y-0 ${SHADES[state]}`} style={{ left: `${at(left)}%`, width: `${at(right) - at(left)}%` }} />;
              })}
          </div>
        </div>
      ))}
    </figure>
  );
}
