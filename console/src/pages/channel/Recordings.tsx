import { Download, Play } from "lucide-react";
import { useState } from "react";
import { useTakes } from "../../api/queries";
import type { Take } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { clock, moment, size } from "../../lib/format";
import { Section } from "./Section";

const fileOf = (take: Take) => `/api/v1/takes/${take.session}/${take.number}/file`;

function TakeRow({ take, onPlay }: { take: Take; onPlay: () => void }) {
  return (
    <tr>
      <td className="whitespace-nowrap">{moment(take.started_at)}</td>
      <td className="text-right">{take.session}</td>
      <td className="text-right">{take.number}</td>
      <td className={take.state === "cut off" ? "text-warning" : ""}>{take.state}</td>
      <td className="text-right">{clock(take.duration_ms)}</td>
      <td className="whitespace-nowrap text-right">{size(take.size_bytes)}</td>
      <td className="whitespace-nowrap text-right">
        <button type="button" className="btn btn-ghost btn-square btn-sm" onClick={onPlay} aria-label={`Play take ${take.number} of session ${take.session}`}>
          <Play className="size-4" />
        </button>
        <a className="btn btn-ghost btn-square btn-sm" href={fileOf(take)} download aria-label={`Download take ${take.number} of session ${take.session}`}>
          <Download className="size-4" />
        </a>
      </td>
    </tr>
  );
}

export function Recordings({ channel }: { channel: string }) {
  const takes = useTakes(channel);
  const [playing, setPlaying] = useState<Take>();
  return (
    <Section title="Recordings">
      {takes.isPending && <LoadingNote />}
      {takes.error && <ErrorNote error={takes.error} />}
      {takes.data?.length === 0 && <EmptyNote title="No recordings yet." />}
      {takes.data && takes.data.length > 0 && (
        <div className="overflow-x-auto">
          <table className="table table-sm [&_:is(td,th):first-child]:pl-5 [&_:is(td,th):last-child]:pr-5">
            <thead>
              <tr>
                <th>Began</th>
                <th className="text-right">Session</th>
                <th className="text-right">Take</th>
                <th>State</th>
                <th className="text-right">Length</th>
                <th className="text-right">Size</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {takes.data.map((take) => (
                <TakeRow key={`${take.session}/${take.number}`} take={take} onPlay={() => setPlaying(take)} />
              ))}
            </tbody>
          </table>
        </div>
      )}
      {playing && (
        <Dialog isWide title={`Session ${playing.session}, take ${playing.number}`} onClose={() => setPlaying(undefined)}>
          <video className="w-full rounded-field bg-black" src={fileOf(playing)} controls autoPlay playsInline />
        </Dialog>
      )}
    </Section>
  );
}
