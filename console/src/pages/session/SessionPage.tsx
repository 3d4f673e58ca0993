import { ArrowLeft, Printer } from "lucide-react";
import type { ReactNode } from "react";
import { Link, useParams } from "react-router";
import { useReport, useSession } from "../../api/queries";
import type { FindingReport, LegReport, Session, ShowReport, SoundReport } from "../../api/types";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { clock, count, dropped, moment, seconds, size, span } from "../../lib/format";
import { ShowTimeline } from "../../timeline/ShowTimeline";
import { Section } from "../channel/Section";

function Head({ session, report }: { session: Session; report: ShowReport }) {
  const { source } = report;
  return (
    <div className="mb-5 mt-1">
      <div className="flex items-start justify-between gap-3">
        <h1 className="text-2xl font-semibold tracking-tight">
          {session.is_rehearsal ? "Rehearsal" : "Session"} {session.id} <span className="font-normal text-base-content/70">{session.channel}</span>
        </h1>
        <button type="button" className="btn btn-sm" onClick={() => window.print()}>
          <Printer aria-hidden className="size-4" /> Print
        </button>
      </div>
      <p className="text-sm text-base-content/70">
        {moment(session.started_at)} · {clock(report.length_ms)} · {source.stream || "no stream"} · key {session.key_label} ·{" "}
        {session.ended_at ? session.end_reason : "still on air"}
      </p>
    </div>
  );
}

/** When a leg carried, drawn along the show: gaps are open. */
function Ribbon({ leg, length }: { leg: LegReport; length: number }) {
  const at = (time: number) => `${Math.min(100, (100 * time) / Math.max(1, length))}%`;
  if (leg.began_at_ms === null || leg.began_at_ms === undefined) return <div className="h-2.5 rounded-sm bg-base-300" />;
  const until = Math.min(length, leg.began_at_ms + leg.carried_ms + leg.lost_ms);
  return (
    <div className="relative h-2.5 overflow-hidden rounded-sm bg-base-300" role="img" aria-label={`${leg.destination} carried ${clock(leg.carried_ms)}`}>
      <div className="absolute inset-y-0 bg-success" style={{ left: at(leg.began_at_ms), width: at(until - leg.began_at_ms) }} />
      {leg.gaps.map((gap) => (
        <div key={gap.at_ms} className="absolute inset-y-0 min-w-0.5 bg-error" style={{ left: at(gap.at_ms), width: at(gap.length_ms) }} />
      ))}
    </div>
  );
}

function Legs({ report }: { report: ShowReport }) {
  return (
    <div className="overflow-x-auto">
      <table className="table table-sm [&_:is(td,th):first-child]:pl-5 [&_:is(td,th):last-child]:pr-5">
        <thead>
          <tr>
            <th>Destination</th>
            <th className="w-56">Along the show</th>
            <th className="text-right">Carried</th>
            <th className="text-right">Gaps</th>
            <th className="text-right">Frames</th>
            <th className="text-right">Sent</th>
            <th className="text-right">Dropped</th>
            <th className="text-right">Redials</th>
            <th className="text-right">Delay</th>
            <th className="text-right">Most behind</th>
          </tr>
        </thead>
        <tbody>
          {report.legs.map((leg) => (
            <tr key={leg.destination} className="[&_td]:whitespace-nowrap">
              <td className="font-medium">{leg.destination}</td>
              <td>
                <Ribbon leg={leg} length={report.length_ms} />
              </td>
              <td className="text-right">{clock(leg.carried_ms)}</td>
              <td className="text-right">{leg.gap_count === 0 ? "0" : `${leg.gap_count} (${seconds(leg.lost_ms)})`}</td>
              <td className="text-right">{leg.sent_frame_count}</td>
              <td className="text-right">{size(leg.sent_bytes)}</td>
              <td className="text-right">{dropped(leg)}</td>
              <td className="text-right">{leg.redial_count}</td>
              <td className="text-right">{span(leg.delay_ms)}</td>
              <td className="text-right">{span(leg.most_behind_ms)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const decibels = (value: number | null | undefined) => (value === null || value === undefined ? "–" : value.toFixed(1));

function Sounds({ sounds }: { sounds: SoundReport[] }) {
  return (
    <div className="overflow-x-auto">
      <table className="table table-sm [&_:is(td,th):first-child]:pl-5 [&_:is(td,th):last-child]:pr-5">
        <thead>
          <tr>
            <th>Track</th>
            <th>Codec</th>
            <th className="text-right">Loudness, LUFS</th>
            <th className="text-right">Range, LU</th>
            <th className="text-right">True peak, dBTP</th>
            <th className="text-right">Listened to</th>
          </tr>
        </thead>
        <tbody>
          {sounds.map((sound) => (
            <tr key={sound.track}>
              <td className="font-medium">
                {sound.track}
                {sound.name && <span className="font-normal text-base-content/70"> {sound.name}</span>}
              </td>
              <td>{sound.codec}</td>
              <td className="text-right">{decibels(sound.loudness)}</td>
              <td className="text-right">{decibels(sound.range)}</td>
              <td className="text-right">{decibels(sound.true_peak)}</td>
              <td className="text-right">{sound.not_heard ?? clock(sound.heard_ms)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Line({ time, name, children }: { time: string; name?: string; children: ReactNode }) {
  return (
    <li className="flex gap-3 px-4 py-2 text-sm sm:gap-4 sm:px-5">
      <span className="w-10 shrink-0 text-right sm:w-16 font-mono text-base-content/65">{time}</span>
      {name && <span className="w-20 shrink-0 font-medium sm:w-32">{name}</span>}
      <span>{children}</span>
    </li>
  );
}

function Troubles({ legs }: { legs: LegReport[] }) {
  return (
    <ul className="divide-y divide-base-300">
      {legs.flatMap((leg) => [
        ...leg.gaps.map((gap) => (
          <Line key={`${leg.destination} ${gap.at_ms}`} time={clock(gap.at_ms)} name={leg.destination}>
            nothing for {seconds(gap.length_ms)}: {gap.reason}
          </Line>
        )),
        ...[...(leg.breaches ?? []), ...(leg.note ? [leg.note] : [])].map((text) => (
          <Line key={`${leg.destination} ${text}`} time="" name={leg.destination}>
            {text}
          </Line>
        )),
      ])}
    </ul>
  );
}

/** A finding with its time: from when, and for how long. */
function Found({ finding }: { finding: FindingReport }) {
  const { at_ms: from, until_ms: until, cause, advice, destinations, severity } = finding;
  const length = until === null || until === undefined ? "to the end" : `for ${seconds(until - from)}`;
  return (
    <Line time={clock(from)} name={length}>
      <span className={severity === "alarm" ? "font-medium text-error" : severity === "warning" ? "font-medium text-warning" : "font-medium"}>{cause}</span>
      {destinations.length > 0 && <span className="text-base-content/65"> ({destinations.join(", ")})</span>}
      <span className="block text-base-content/75">{advice}</span>
    </Line>
  );
}

/** The report of a show: what each destination got, and what happened. */
export function SessionPage() {
  const id = Number(useParams().session);
  const session = useSession(id);
  const report = useReport(id);
  if (session.isPending || report.isPending) return <LoadingNote />;
  const error = session.error ?? report.error;
  if (error || !session.data || !report.data) return <ErrorNote error={error} />;
  const { legs, source, events } = report.data;
  const channel = session.data.session.channel;
  const isTroubled = legs.some((leg) => leg.gaps.length > 0 || (leg.breaches?.length ?? 0) > 0 || leg.note);
  const wrong = [
    ...(source.findings ?? []),
    ...(source.loss_count > 0 ? [`The encoder was lost ${count(source.loss_count, "time", "times")}.`] : []),
    ...(source.unusable_count > 0 ? [`${count(source.unusable_count, "message", "messages")} could not be used.`] : []),
  ];
  return (
    <>
      <Link to={`/channels/${channel}`} className="screen-only inline-flex items-center gap-1 text-sm text-base-content/70 hover:underline">
        <ArrowLeft aria-hidden className="size-4" /> {channel}
      </Link>
      <Head session={session.data.session} report={report.data} />
      <div className="space-y-5">
        <Section title="Destinations">
          <Legs report={report.data} />
        </Section>
        {report.data.sounds && report.data.sounds.length > 0 && (
          <Section title="Sound">
            <Sounds sounds={report.data.sounds} />
          </Section>
        )}
        <ShowTimeline session={id} channel={channel} isRunning={!session.data.session.ended_at} />
        {report.data.findings && report.data.findings.length > 0 && (
          <Section title="Findings">
            <ul className="divide-y divide-base-300">
              {report.data.findings.map((finding) => (
                <Found key={`${finding.code} ${finding.at_ms} ${finding.destinations}`} finding={finding} />
              ))}
            </ul>
          </Section>
        )}
        {isTroubled && (
          <Section title="Troubles">
            <Troubles legs={legs} />
          </Section>
        )}
        <Section title="What happened">
          <ul className="divide-y divide-base-300">
            {wrong.map((text) => (
              <Line key={text} time="">
                {text}
              </Line>
            ))}
            {events.map((event) => (
              <Line key={`${event.at_ms} ${event.text}`} time={clock(event.at_ms)}>
                {event.text}
              </Line>
            ))}
            {wrong.length + events.length === 0 && <Line time="">Nothing to tell: the encoder came, stayed and left in order.</Line>}
          </ul>
        </Section>
      </div>
    </>
  );
}
