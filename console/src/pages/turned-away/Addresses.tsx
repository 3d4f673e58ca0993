import { useState } from "react";
import { useAddresses, useReleaseAddress, useRemoveAddressRule } from "../../api/addresses";
import { Allowed } from "../../components/Allowed";
import { EmptyNote, ErrorNote } from "../../components/Notes";
import { moment } from "../../lib/format";
import { Section } from "../channel/Section";
import { AddRule } from "./AddRule";

type Line = { key: string; range: string; isBlocked: boolean; until?: string | null; why: string; undo: string; onUndo: () => void };

function Row({ line, isBusy }: { line: Line; isBusy: boolean }) {
  return (
    <li className="flex flex-wrap items-center gap-x-4 gap-y-1 px-4 py-2 text-sm sm:px-5">
      <span className="min-w-40 font-mono">{line.range}</span>
      <span className={`badge badge-sm ${line.isBlocked ? "badge-error" : "badge-success"}`}>{line.isBlocked ? "blocked" : "welcome"}</span>
      <span className="min-w-0 flex-1 text-base-content/75">
        {line.until ? `until ${moment(line.until)}` : "until it is taken away"} · {line.why}
      </span>
      <Allowed least="operator">
        <button type="button" className="btn btn-ghost btn-sm" disabled={isBusy} onClick={line.onUndo} aria-label={`${line.undo} ${line.range}`}>
          {line.undo}
        </button>
      </Allowed>
    </li>
  );
}

/** Addresses that are held off, and those of the crew. */
export function Addresses() {
  const addresses = useAddresses();
  const remove = useRemoveAddressRule();
  const release = useReleaseAddress();
  const [isOpen, setOpen] = useState(false);
  const lines: Line[] = [
    ...(addresses.data?.blocked ?? []).map((blocked) => ({
      key: blocked.address,
      range: blocked.address,
      isBlocked: true,
      until: blocked.until,
      why: `too many wrong tries, ${blocked.tries} more since${blocked.times > 1 ? `; for the ${blocked.times}. time` : ""}`,
      undo: "Release",
      onUndo: () => release.mutate(blocked.address),
    })),
    ...(addresses.data?.rules ?? []).map((rule) => ({
      key: `rule ${rule.id}`,
      range: rule.range,
      isBlocked: rule.reception === "blocked",
      until: rule.until,
      why: [rule.note, `by ${rule.made_by}`].filter(Boolean).join(" · "),
      undo: "Take away",
      onUndo: () => remove.mutate(rule.id),
    })),
  ];
  const error = addresses.error ?? remove.error ?? release.error;
  const action = (
    <Allowed least="operator">
      <button type="button" className="btn btn-sm" onClick={() => setOpen(true)}>
        Block or welcome
      </button>
    </Allowed>
  );
  return (
    <Section title="Blocked, and the crew's" action={action}>
      {error && (
        <div className="p-4">
          <ErrorNote error={error} />
        </div>
      )}
      {addresses.data && lines.length === 0 && <EmptyNote title="All addresses are received alike.">One that goes on with wrong keys is blocked for a time by itself.</EmptyNote>}
      <ul className="divide-y divide-base-300">
        {lines.map((line) => (
          <Row key={line.key} line={line} isBusy={remove.isPending || release.isPending} />
        ))}
      </ul>
      {isOpen && <AddRule onClose={() => setOpen(false)} />}
    </Section>
  );
}
