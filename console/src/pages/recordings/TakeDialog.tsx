import { Link2, Lock, LockOpen, Scissors, ShieldCheck, Trash2, Wrench } from "lucide-react";
import { type FormEvent, useRef, useState } from "react";
import { type TakeName, useAddViewingLink, useChangeTake, useCheckTake, useCutTake, useMendTake, useRemoveTake, useRestoreTake, useTake } from "../../api/queries";
import type { Take } from "../../api/types";
import { CopyField } from "../../components/CopyField";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { clock, moment, size } from "../../lib/format";
import { fileName, playable, takePath } from "../../lib/recording";
import { JobLine } from "./JobLine";

/** Where a piece is to begin and to end, in milliseconds. */
type Piece = { from?: number; to?: number };

function Downloads({ take, piece }: { take: Take; piece: Piece }) {
  const path = takePath(take);
  const link = "btn btn-sm";
  const isCut = piece.from !== undefined && piece.to !== undefined && piece.from < piece.to;
  return (
    <div className="flex flex-wrap items-center gap-2" role="group" aria-label="Download">
      <span className="w-20 text-sm text-base-content/70">Download</span>
      <a className={link} href={`${path}/file?download=true`}>
        As recorded ({size(take.size_bytes)})
      </a>
      <a className={link} href={`${path}/mp4?download=true`}>
        Plain MP4
      </a>
      {take.sounds.map((sound, place) => (
        <a key={place} className={link} href={`${path}/sound/${place + 1}?download=true`}>
          {sound.name ?? `Sound ${place + 1}`}
          {sound.language ? ` (${sound.language})` : ""}
        </a>
      ))}
      {isCut && (
        <a className={link} href={`${path}/mp4?download=true&from_ms=${piece.from}&to_ms=${piece.to}`}>
          This piece
        </a>
      )}
    </div>
  );
}

/** Makes a link by which others can watch the take. */
function Share({ take }: { take: Take }) {
  const add = useAddViewingLink(take.channel);
  const label = `take ${take.session}/${take.number}`;
  return (
    <div className="space-y-2">
      <div className="flex flex-wrap items-center gap-2" role="group" aria-label="Share">
        <span className="w-20 text-sm text-base-content/70">Share</span>
        <button type="button" className="btn btn-sm" disabled={add.isPending} onClick={() => add.mutate({ label, take: { session: take.session, number: take.number } })}>
          <Link2 className="size-4" /> Make a link to watch it
        </button>
        {add.data && <span className="text-sm text-base-content/65">good for 30 days; it is with the links of the channel</span>}
      </div>
      {add.data && <CopyField label="Page for people" value={add.data.addresses.page} />}
      {add.error && <ErrorNote error={add.error} />}
    </div>
  );
}

/** Chooses a piece by the player's position, and cuts it. */
function Cutter({ take, piece, onPiece, now }: { take: Take; piece: Piece; onPiece: (piece: Piece) => void; now: () => number }) {
  const cut = useCutTake(take);
  const { from, to } = piece;
  const isPiece = from !== undefined && to !== undefined && from < to;
  const shown = (time: number | undefined) => (time === undefined ? "–" : clock(time));
  const button = "btn btn-sm";
  return (
    <div className="space-y-2">
      <div className="flex flex-wrap items-center gap-2" role="group" aria-label="Cut">
        <span className="w-20 text-sm text-base-content/70">Cut</span>
        <button type="button" className={button} onClick={() => onPiece({ ...piece, from: now() })}>
          Begin here
        </button>
        <button type="button" className={button} onClick={() => onPiece({ ...piece, to: now() })}>
          End here
        </button>
        <span className="font-mono text-sm">
          {shown(from)} to {shown(to)}
        </span>
        <button type="button" className={button} disabled={!isPiece || cut.isPending} onClick={() => cut.mutate({ from_ms: from ?? 0, to_ms: to })}>
          <Scissors className="size-4" /> Cut a take
        </button>
      </div>
      {cut.error && <ErrorNote error={cut.error} />}
      <JobLine job={cut.data?.id} doing="Cutting" done={() => "The piece is a take of its own now."} />
    </div>
  );
}

/** Title and note. */
function NoteForm({ take }: { take: Take }) {
  const change = useChangeTake(take);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    change.mutate({ title: fieldText(form, "title"), note: fieldText(form, "note") });
  };
  return (
    <form className="grid items-end gap-3 sm:grid-cols-[1fr_2fr_auto]" onSubmit={onSubmit}>
      <Field label="Title" name="title" defaultValue={take.title ?? ""} maxLength={160} placeholder={fileName(take.path)} />
      <Field label="Note" name="note" defaultValue={take.note ?? ""} maxLength={4000} />
      <button type="submit" className="btn" disabled={change.isPending}>
        {change.isSuccess ? "Saved" : "Save"}
      </button>
      {change.error && <ErrorNote error={change.error} />}
    </form>
  );
}

function Actions({ take, onGone }: { take: Take; onGone: () => void }) {
  const [check, restore, mend, change, remove] = [useCheckTake(take), useRestoreTake(take), useMendTake(take), useChangeTake(take), useRemoveTake()];
  const [isAsking, setAsking] = useState(false);
  const error = check.error ?? restore.error ?? mend.error ?? change.error ?? remove.error;
  const result = (value: unknown) => {
    const { is_good, findings } = value as { is_good: boolean; findings: string[] };
    return is_good ? "Nothing is wrong with it." : findings.join("; ");
  };
  const onRemove = () => remove.mutate(take, { onSuccess: onGone });
  return (
    <div className="space-y-3">
      <div className="flex flex-wrap gap-2">
        {take.is_here ? (
          <button type="button" className="btn btn-sm" disabled={check.isPending} onClick={() => check.mutate()}>
            <ShieldCheck className="size-4" /> Check
          </button>
        ) : (
          take.copy?.state === "there" && (
            <button type="button" className="btn btn-sm" disabled={restore.isPending} onClick={() => restore.mutate()}>
              Bring it back from {take.copy.depot}
            </button>
          )
        )}
        {take.state === "cut off" && (
          <button type="button" className="btn btn-sm" disabled={mend.isPending} onClick={() => mend.mutate(undefined)}>
            <Wrench className="size-4" /> Mend
          </button>
        )}
        <button type="button" className="btn btn-sm" disabled={change.isPending} onClick={() => change.mutate({ is_locked: !take.is_locked })}>
          {take.is_locked ? <LockOpen className="size-4" /> : <Lock className="size-4" />} {take.is_locked ? "Unlock" : "Lock"}
        </button>
        {isAsking ? (
          <button type="button" className="btn btn-error btn-sm" disabled={remove.isPending} onClick={onRemove}>
            <Trash2 className="size-4" /> Yes, remove this take
          </button>
        ) : (
          <button type="button" className="btn btn-sm" disabled={take.is_locked || take.state === "writing"} onClick={() => setAsking(true)}>
            <Trash2 className="size-4" /> Remove
          </button>
        )}
      </div>
      <JobLine job={check.data?.id} doing="Checking" done={result} />
      <JobLine job={restore.data?.id} doing="Bringing it back" done={() => "The take is on the disk again."} />
      {error && <ErrorNote error={error} />}
    </div>
  );
}

/** A take: watched, cut, downloaded, written about. */
export function TakeDialog({ session, number, onGone, onClose }: TakeName & { onGone: () => void; onClose: () => void }) {
  const take = useTake(session, number);
  const player = useRef<HTMLVideoElement>(null);
  const [piece, setPiece] = useState<Piece>({});
  const now = () => Math.round((player.current?.currentTime ?? 0) * 1000);
  const seek = (at: number) => {
    if (player.current) player.current.currentTime = at / 1000;
  };
  const known = take.data;
  return (
    <Dialog isWide title={known?.title ?? `Session ${session}, take ${number}`} onClose={onClose}>
      {take.isPending && <LoadingNote />}
      {take.error && <ErrorNote error={take.error} />}
      {known && (
        <div className="space-y-4">
          {known.is_here && (
            <video ref={player} className="aspect-video w-full rounded-field bg-black" src={playable(known)} controls playsInline preload="metadata" />
          )}
          {known.marks.length > 0 && (
            <div className="flex flex-wrap gap-2" role="group" aria-label="Marks">
              {known.marks.map((mark) => (
                <button key={`${mark.at_ms} ${mark.title}`} type="button" className="btn btn-xs" onClick={() => seek(mark.at_ms)}>
                  <span className="font-mono">{clock(mark.at_ms)}</span> {mark.title}
                </button>
              ))}
            </div>
          )}
          {known.is_here && known.state !== "writing" && <Cutter take={known} piece={piece} onPiece={setPiece} now={now} />}
          {known.is_here && <Downloads take={known} piece={piece} />}
          {known.is_here && known.state !== "writing" && <Share take={known} />}
          <NoteForm key={`${known.session}/${known.number}`} take={known} />
          <Actions take={known} onGone={onGone} />
          <p className="text-xs text-base-content/65">
            {moment(known.started_at)} · {clock(known.duration_ms)} · <span className="font-mono">{known.path}</span>
            {known.sha256 && (
              <>
                {" "}
                · SHA-256 <span className="break-all font-mono">{known.sha256}</span>
              </>
            )}
            {known.repair && <> · mended: {known.repair}</>}
          </p>
        </div>
      )}
    </Dialog>
  );
}
