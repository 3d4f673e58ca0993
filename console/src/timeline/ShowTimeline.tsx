import { useState } from "react";
import { Download, ZoomOut } from "lucide-react";
import { useSessions, useShowTimeline } from "../api/queries";
import { EmptyNote, ErrorNote, LoadingNote } from "../components/Notes";
import { clock, moment } from "../lib/format";
import { Section } from "../pages/channel/Section";
import { Figures } from "./Figures";
import { inApi } from "../api/place";

const LASTS = [
  [300, "5 min"],
  [1800, "30 min"],
  [7200, "2 h"],
  [0, "whole"],
] as const;

const tell = (second: number) => clock(second * 1000);

type Props = { session: number; channel: string; isRunning: boolean };

/** The timeline of a show; of one that goes on the last minutes, of one that is over all of it. */
export function ShowTimeline({ session, channel, isRunning }: Props) {
  const [last, setLast] = useState<number>(isRunning ? 300 : 0);
  const [zoom, setZoom] = useState<readonly [number, number]>();
  const [beside, setBeside] = useState<number>();
  const sessions = useSessions(channel);
  const range = zoom ? { from_s: zoom[0], until_s: zoom[1] } : last > 0 ? { last_s: last } : {};
  const asked = { ...range, beside };
  const { data, error } = useShowTimeline(session, asked, isRunning && !zoom);
  const others = sessions.data?.items.filter((other) => other.id !== session) ?? [];
  const first = data?.timelines[0];
  const shown = first && ([first.start_s, Math.max(first.start_s + first.count * (data?.step_s ?? 1), first.start_s + 1)] as const);
  const query = new URLSearchParams(Object.entries(asked).flatMap(([key, value]) => (value === undefined ? [] : [[key, String(value)]])));
  return (
    <Section
      title="Timeline"
      action={
        <div className="flex flex-wrap items-center justify-end gap-2 print:hidden">
          {others.length > 0 && (
            <select className="select select-sm w-auto" aria-label="Another show laid over" value={beside ?? ""} onChange={(event) => setBeside(event.target.value === "" ? undefined : Number(event.target.value))}>
              <option value="">no other show</option>
              {others.map((other) => (
                <option key={other.id} value={other.id}>
                  session {other.id}, {moment(other.started_at)}
                </option>
              ))}
            </select>
          )}
          {zoom ? (
            <button type="button" className="btn btn-sm" onClick={() => setZoom(undefined)}>
              <ZoomOut aria-hidden className="size-4" /> {tell(zoom[0])} to {tell(zoom[1])}
            </button>
          ) : (
            isRunning && (
              <div className="join" role="group" aria-label="How much is shown">
                {LASTS.map(([seconds, text]) => (
                  <button key={seconds} type="button" aria-pressed={last === seconds} className={`btn btn-sm join-item ${last === seconds ? "btn-active" : ""}`} onClick={() => setLast(seconds)}>
                    {text}
                  </button>
                ))}
              </div>
            )
          )}
          <a className="btn btn-sm btn-square" href={inApi(`/sessions/${session}/timeline.csv?${query}`)} title="As a table (CSV)" aria-label="As a table (CSV)">
            <Download className="size-4" />
          </a>
        </div>
      }
    >
      <div className="px-2 py-3">
        {error && <ErrorNote error={error} />}
        {!data && !error && <LoadingNote />}
        {data && first && shown && first.series.length > 0 && <Figures told={data} range={shown} origin={0} tell={tell} onZoom={(from, until) => setZoom([from, Math.max(until, from + 5)])} />}
        {first?.series.length === 0 && <EmptyNote title="There are no figures of this show, or they are older than is kept." />}
      </div>
    </Section>
  );
}
