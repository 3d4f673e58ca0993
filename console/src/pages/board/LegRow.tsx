import { useMay } from "../../api/may";
import { useSwitch } from "../../api/queries";
import type { LiveLeg, LiveLine } from "../../api/types";
import { Sparkline } from "../../components/Sparkline";
import { StateText } from "../../components/StateText";
import { bitrate, clock, dropped, span } from "../../lib/format";
import { legNote, legTone } from "../../lib/state";
import { percent } from "./LineFacts";

function Number({ label, value, isBad = false, isWide = false }: { label: string; value: string; isBad?: boolean; isWide?: boolean }) {
  return (
    <div className={isWide ? "sm:w-21" : "sm:w-14"}>
      <dt className="eyebrow">{label}</dt>
      <dd className={`whitespace-nowrap text-sm font-medium ${isBad ? "text-warning" : ""}`}>{value}</dd>
    </div>
  );
}

/** The line of a leg that goes over SRT, on one line. */
function LineNote({ line }: { line: LiveLine }) {
  const figures = [
    `${percent(line.loss_share)} lost at first`,
    `${percent(line.retransmit_share)} sent again`,
    `${line.dropped_packet_count} too late`,
    `round trip ${line.rtt_ms.toFixed(line.rtt_ms < 10 ? 1 : 0)} ms`,
    `latency ${line.latency_ms} ms`,
  ];
  return <p className="mt-1 text-sm text-base-content/75">SRT line: {figures.join(" · ")}</p>;
}

/** A leg: state, rate out with its last minute, delay, drops, redials, and its switch. */
export function LegRow({ channel, leg }: { channel: string; leg: LiveLeg }) {
  const change = useSwitch(channel);
  const mayRun = useMay("operator");
  const isOn = leg.state !== "off";
  const isLive = isOn && leg.state !== "ready";
  const note = legNote(leg);
  const state = isLive ? `${leg.state} ${clock(leg.state_for_ms)}` : leg.state;
  return (
    <div className="flex flex-col justify-center border-t border-base-300 px-4 py-3 first:border-t-0 sm:px-5">
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        <div className="min-w-40 flex-1">
          <p className="font-semibold">{leg.destination}</p>
          <StateText tone={legTone(leg)}>{state}</StateText>
        </div>
        {isLive && (
          <dl className="order-last grid w-full grid-cols-[auto_auto_auto_auto] gap-x-4 sm:order-none sm:flex sm:w-auto sm:items-center sm:gap-x-5">
            <div className="col-span-4 sm:col-span-1">
              <dt className="sr-only">Last minute</dt>
              <dd>
                <Sparkline values={leg.trace} label={`Bitrate to ${leg.destination} over the last minute`} />
              </dd>
            </div>
            <Number label="Out" value={bitrate(leg.bitrate_bps)} isWide />
            <Number label="Behind" value={span(leg.behind_ms)} isBad={leg.behind_ms - leg.delay_ms > 2000} />
            <Number label="Dropped" value={dropped(leg)} isBad={leg.dropped_frame_count > 0} isWide />
            <Number label="Redials" value={String(leg.redial_count)} isBad={leg.redial_count > 0} />
          </dl>
        )}
        <input
          type="checkbox"
          className="toggle toggle-success toggle-sm"
          checked={isOn}
          disabled={change.isPending || !mayRun}
          aria-label={`Send to ${leg.destination}`}
          onChange={(event) => change.mutate({ destination: leg.destination, isOn: event.target.checked })}
        />
      </div>
      {note && <p className="mt-1 text-sm text-base-content/75">{note}</p>}
      {leg.line && <LineNote line={leg.line} />}
      {change.error && <p className="mt-1 text-sm text-error">{change.error.message}</p>}
    </div>
  );
}
