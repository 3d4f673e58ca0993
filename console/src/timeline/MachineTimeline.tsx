import { useState } from "react";
import { ZoomOut } from "lucide-react";
import { useMachineTimeline } from "../api/queries";
import { ErrorNote, LoadingNote } from "../components/Notes";
import { moment } from "../lib/format";
import { Section } from "../pages/channel/Section";
import { Figures } from "./Figures";

const HOURS = [
  [1, "1 h"],
  [24, "a day"],
  [168, "a week"],
] as const;

/** The machine over time. */
export function MachineTimeline() {
  const [hours, setHours] = useState<number>(1);
  const [zoom, setZoom] = useState<readonly [number, number]>();
  const { data, error } = useMachineTimeline(hours, zoom);
  const first = data?.timelines[0];
  const origin = first ? Math.floor(Date.parse(first.began_at) / 1000) : 0;
  // Within a day the hour is enough.
  const tell = (second: number) => {
    const text = moment(new Date(second * 1000).toISOString());
    return hours > 24 && !zoom ? text.slice(5, 16) : text.slice(11);
  };
  return (
    <Section
      title="Timeline"
      action={
        zoom ? (
          <button type="button" className="btn btn-sm" onClick={() => setZoom(undefined)}>
            <ZoomOut aria-hidden className="size-4" /> {tell(zoom[0])} to {tell(zoom[1])}
          </button>
        ) : (
          <div className="join" role="group" aria-label="How much is shown">
            {HOURS.map(([length, text]) => (
              <button key={length} type="button" aria-pressed={hours === length} className={`btn btn-sm join-item ${hours === length ? "btn-active" : ""}`} onClick={() => setHours(length)}>
                {text}
              </button>
            ))}
          </div>
        )
      }
    >
      <div className="px-2 py-3">
        {error && <ErrorNote error={error} />}
        {!data && !error && <LoadingNote />}
        {data && first && (
          <Figures
            told={data}
            range={[origin + first.start_s, origin + first.start_s + Math.max(first.count, 1) * data.step_s]}
            origin={origin}
            tell={tell}
            onZoom={(from, until) => setZoom([origin + from, origin + Math.max(until, from + 10)])}
          />
        )}
      </div>
    </Section>
  );
}
