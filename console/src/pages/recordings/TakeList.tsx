import { Cloud, Lock, Play, Undo2 } from "lucide-react";
import { useState } from "react";
import { type TakeFilter, type TakeName, useTakes, useUndoRemoval } from "../../api/queries";
import type { Take } from "../../api/types";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { clock, count, moment, size } from "../../lib/format";
import { fileName, takePath } from "../../lib/recording";
import { TakeDialog } from "./TakeDialog";

/** Five stills of a take; a plain surface while it grows or where there are none. */
function Strip({ take }: { take: Take }) {
  const [failed, setFailed] = useState(false);
  const hasStills = take.state !== "writing" && take.is_here && !failed;
  return (
    <div className="aspect-[80/9] w-full overflow-hidden rounded-field bg-base-300 md:w-96">
      {hasStills && (
        // Made anew when the take was mended: its length is another then.
        <img src={`${takePath(take)}/strip?of=${take.size_bytes}`} alt="" loading="lazy" className="size-full object-cover" onError={() => setFailed(true)} />
      )}
    </div>
  );
}

function facts(take: Take): string[] {
  const all = [moment(take.started_at), size(take.size_bytes)];
  if (take.state !== "complete") all.push(take.state);
  if (!take.is_here && take.copy?.state !== "there") all.push("its file is missing");
  if (take.cut_from) all.push(`cut from take ${take.cut_from}`);
  if (take.marks.length > 0) all.push(count(take.marks.length, "mark", "marks"));
  if (take.gap_count > 0) all.push(`${count(take.gap_count, "gap", "gaps")} (${clock(take.gap_ms)})`);
  return all;
}

function copyText(take: Take): string | undefined {
  const copy = take.copy;
  if (!copy) return undefined;
  switch (copy.state) {
    case "there":
      return take.is_here ? `also at ${copy.depot}` : `at ${copy.depot} only`;
    case "sending":
      return `${Math.round((copy.sent_bytes / Math.max(1, take.size_bytes)) * 100)} % at ${copy.depot}`;
    case "failing":
      return `not at ${copy.depot} yet: ${copy.error ?? ""}`;
    case "waiting":
      return `waits for ${copy.depot}`;
  }
}

function TakeRow({ take, onOpen }: { take: Take; onOpen: () => void }) {
  const undo = useUndoRemoval();
  const copy = copyText(take);
  const name = take.title ?? fileName(take.path);
  return (
    <li className="grid items-center gap-x-4 gap-y-2 border-b border-base-300 px-4 py-3 last:border-b-0 sm:px-5 md:grid-cols-[24rem_1fr_auto]">
      <Strip take={take} />
      <div className="min-w-0">
        <p className="flex items-center gap-2 font-medium">
          {take.is_locked && <Lock aria-label="locked" className="size-4 shrink-0 text-base-content/60" />}
          <span className="truncate">{name}</span>
        </p>
        <p className="text-sm text-base-content/70">
          <span className="font-mono text-xs">{take.channel}</span> · session {take.session}, take {take.number} · {facts(take).join(" · ")}
        </p>
        {copy && (
          <p className={`flex items-center gap-1 text-sm ${take.copy?.state === "failing" ? "text-warning" : "text-base-content/70"}`}>
            <Cloud aria-hidden className="size-4 shrink-0" /> {copy}
          </p>
        )}
        {undo.error && <ErrorNote error={undo.error} />}
      </div>
      <div className="flex items-center gap-3 md:justify-end">
        <span className="font-mono text-sm">{clock(take.duration_ms)}</span>
        {take.removed_at ? (
          <button type="button" className="btn btn-sm" disabled={undo.isPending} onClick={() => undo.mutate(take)}>
            <Undo2 className="size-4" /> Have it back
          </button>
        ) : (
          <button type="button" className="btn btn-sm" onClick={onOpen} aria-label={`Open take ${take.number} of session ${take.session}`}>
            <Play className="size-4" /> Open
          </button>
        )}
      </div>
    </li>
  );
}

/** Takes, the newest first; one of them can be opened. */
export function TakeList({ filter, onMore }: { filter: TakeFilter; onMore?: () => void }) {
  const takes = useTakes(filter);
  const [open, setOpen] = useState<TakeName>();
  const [gone, setGone] = useState<TakeName>();
  const undo = useUndoRemoval();
  const onGone = () => {
    setGone(open);
    setOpen(undefined);
  };
  const items = takes.data?.items ?? [];
  return (
    <>
      {takes.isPending && <LoadingNote />}
      {takes.error && <ErrorNote error={takes.error} />}
      {takes.data && items.length === 0 && <EmptyNote title={filter.removed ? "Nothing was removed lately." : "No recordings."} />}
      {gone && (
        <p role="status" className="flex flex-wrap items-center gap-3 border-b border-base-300 bg-base-200 px-4 py-2 text-sm sm:px-5">
          Take {gone.number} of session {gone.session} is removed. It can be had back for some minutes.
          <button type="button" className="btn btn-xs" disabled={undo.isPending} onClick={() => undo.mutate(gone, { onSuccess: () => setGone(undefined) })}>
            <Undo2 className="size-3" /> Have it back
          </button>
        </p>
      )}
      <ul>
        {items.map((take) => (
          <TakeRow key={`${take.session}/${take.number}`} take={take} onOpen={() => setOpen({ session: take.session, number: take.number })} />
        ))}
      </ul>
      {onMore && takes.data?.next && (
        <button type="button" className="btn btn-ghost btn-sm m-3" onClick={onMore}>
          Show more
        </button>
      )}
      {open && <TakeDialog session={open.session} number={open.number} onGone={onGone} onClose={() => setOpen(undefined)} />}
    </>
  );
}
