import type { HeardSound } from "../api/types";
import { place } from "../lib/levels";

/** Colours by level: what is well below full scale is calm. */
function tone(peak: number | null | undefined): string {
  if (peak === null || peak === undefined) return "bg-base-content/30";
  return peak > -1 ? "bg-error" : peak > -6 ? "bg-warning" : "bg-success";
}

/** What is heard of a track: a bar for each channel, from -60 to 0 dBFS, with its peak as a mark. */
export function LevelBars({ heard, label }: { heard: HeardSound; label: string }) {
  const loudness = heard.short_term;
  const told = heard.channels.map(({ peak }) => (peak === null || peak === undefined ? "silent" : `${peak.toFixed(0)} dBFS`)).join(", ");
  return (
    <div className="flex items-center gap-2" role="img" aria-label={`Level of ${label}: ${told}`}>
      <div className="flex-1 space-y-0.5">
        {heard.channels.map(({ rms, peak }, channel) => (
          <div key={channel} className="relative h-1.5 overflow-hidden rounded-full bg-base-300">
            <div className={`absolute inset-y-0 left-0 rounded-full transition-[width] duration-500 ${tone(peak)}`} style={{ width: `${place(rms)}%` }} />
            <div className="absolute inset-y-0 w-0.5 bg-base-content/70" style={{ left: `calc(${place(peak)}% - 2px)` }} />
          </div>
        ))}
      </div>
      <span className="w-18 whitespace-nowrap text-right text-xs text-base-content/75">
        {loudness === null || loudness === undefined ? "silent" : `${loudness.toFixed(1)} LUFS`}
      </span>
    </div>
  );
}
