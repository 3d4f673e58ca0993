import { LifeBuoy, Radar } from "lucide-react";
import { Link, useOutletContext } from "react-router";
import type { Live } from "../../api/live";
import type { LiveHost } from "../../api/types";
import { Allowed } from "../../components/Allowed";
import { EmptyNote, LoadingNote } from "../../components/Notes";
import { bitrate, size } from "../../lib/format";
import { MachineTimeline } from "../../timeline/MachineTimeline";
import { Section } from "../channel/Section";
import { Capacity } from "./Capacity";
import { LogLines } from "./LogLines";
import { inApi } from "../../api/place";

function Figure({ label, value, more }: { label: string; value: string; more?: string }) {
  return (
    <div className="px-5 py-4">
      <dt className="eyebrow">{label}</dt>
      <dd className="mt-0.5 text-2xl font-semibold tracking-tight">{value}</dd>
      {more && <dd className="text-sm text-base-content/70">{more}</dd>}
    </div>
  );
}

const percent = (share: number) => `${(share * 100).toFixed(0)} %`;

function Host({ host }: { host: LiveHost }) {
  const used = host.memory_bytes - host.available_bytes;
  const received = host.networks.reduce((sum, network) => sum + network.received_bps, 0);
  const sent = host.networks.reduce((sum, network) => sum + network.sent_bps, 0);
  const { service, database } = host;
  return (
    <>
      <dl className="grid grid-cols-2 divide-base-300 sm:grid-cols-4 sm:divide-x">
        <Figure label="Processors" value={percent(host.processor_share)} more={`of ${host.processors}`} />
        <Figure label="Memory" value={size(used)} more={`of ${size(host.memory_bytes)}`} />
        <Figure label="Network" value={bitrate(sent)} more={`out, ${bitrate(received)} in`} />
        <Figure label="Disk writes" value={host.disk_write_ms ? `${host.disk_write_ms.toFixed(1)} ms` : "none"} more="mean time" />
      </dl>
      <p className="border-t border-base-300 px-5 py-3 text-sm text-base-content/75">
        Of that the service has {percent(service.processor_share)} of a processor, {size(service.resident_bytes)} of memory and{" "}
        {service.open_files} open files
        {database && `; its database ${percent(database.processor_share)}, ${size(database.resident_bytes)} and ${database.open_files}`}.
      </p>
    </>
  );
}

/** The machine, and what more shows would need of it. */
export function MachinePage() {
  const { board } = useOutletContext<Live>();
  if (!board) return <LoadingNote />;
  return (
    <>
      <div className="mb-5 flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-2xl font-semibold tracking-tight">Machine</h1>
        <Allowed least="engineer">
          <Link to="/outside" className="btn btn-sm ml-auto">
            <Radar aria-hidden className="size-4" /> Seen from outside
          </Link>
          <a className="btn btn-sm" href={inApi("/support-bundle")} download title="Settings and records without secrets, findings, figures and the end of the log, for who helps">
          <LifeBuoy aria-hidden className="size-4" /> Support bundle
          </a>
        </Allowed>
      </div>
      <div className="space-y-5">
        <Section title="Now">{board.host ? <Host host={board.host} /> : <EmptyNote title="It was not looked at yet." />}</Section>
        <MachineTimeline />
        <Capacity knowsUplink={Boolean(board.uplink)} />
        <Allowed least="engineer">
          <LogLines />
        </Allowed>
      </div>
    </>
  );
}
