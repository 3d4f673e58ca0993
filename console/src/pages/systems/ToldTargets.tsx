import { useState } from "react";
import { useCallTargets, useRemoveCallTarget } from "../../api/calls";
import type { CallTarget } from "../../api/types";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { moment } from "../../lib/format";
import { Section } from "../channel/Section";
import { NewSecret } from "./NewSecret";
import { SetTarget } from "./SetTarget";
import { TryTarget } from "./TryTarget";
import { formatWord } from "./callForm";

type Open = { kind: "add" } | { kind: "change" | "try" | "remove"; target: CallTarget };

function Condition({ target }: { target: CallTarget }) {
  if (!target.is_on) return <span className="badge badge-sm">not told for now</span>;
  if (target.failing_since) return <span className="badge badge-error badge-sm">takes nothing since {moment(target.failing_since)}</span>;
  if (target.took_at) return <span className="badge badge-success badge-sm">took the last at {moment(target.took_at)}</span>;
  return <span className="badge badge-sm">not told yet</span>;
}

function Row({ target, onOpen }: { target: CallTarget; onOpen: (open: Open) => void }) {
  const remove = useRemoveCallTarget();
  const [isSure, setSure] = useState(false);
  const how = target.is_mail ? "by mail" : formatWord(target.format) === "event" ? "as events" : "as text of its own";
  return (
    <li className="space-y-1.5 px-4 py-3 text-sm sm:px-5">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <span className="font-medium">{target.name}</span>
        <Condition target={target} />
        {target.waiting > 0 && <span className="badge badge-warning badge-sm">{target.waiting} wait</span>}
        <span className="ml-auto flex flex-wrap gap-1">
          <button type="button" className="btn btn-ghost btn-sm" onClick={() => (isSure ? remove.mutate(target.name) : setSure(true))} onBlur={() => setSure(false)} aria-label={`Remove ${target.name}`}>
            {isSure ? "Remove, and forget what waits" : "Remove"}
          </button>
          <button type="button" className="btn btn-sm" onClick={() => onOpen({ kind: "try", target })} aria-label={`Try ${target.name}`}>
            Try it
          </button>
          <button type="button" className="btn btn-sm" onClick={() => onOpen({ kind: "change", target })} aria-label={`Change ${target.name}`}>
            Change
          </button>
        </span>
      </div>
      <p className="text-base-content/75">
        <span className="font-mono [overflow-wrap:anywhere]">{target.address}</span> {how}, {target.channel ? `what happens in ${target.channel}` : "what happens in all channels and the house"}
      </p>
      <p className="flex flex-wrap gap-1">
        {target.kinds.map((kind) => (
          <span key={kind} className="badge badge-sm border-base-300 bg-base-100 font-mono">
            {kind}
          </span>
        ))}
      </p>
      {target.fault && <p className="text-error">{target.fault}</p>}
      {remove.error && <ErrorNote error={remove.error} />}
    </li>
  );
}

/** Other systems and people that are told what happens. */
export function ToldTargets() {
  const targets = useCallTargets();
  const [open, setOpen] = useState<Open>();
  const [secret, setSecret] = useState<string>();
  const close = () => setOpen(undefined);
  const action = (
    <button type="button" className="btn btn-sm" onClick={() => setOpen({ kind: "add" })}>
      Tell somebody
    </button>
  );
  const shared = { kinds: targets.data?.kinds ?? [], hasMail: targets.data?.has_mail ?? false, onSecret: setSecret, onClose: close };
  return (
    <Section title="Told what happens" action={action}>
      {targets.isPending && <LoadingNote />}
      {targets.error && (
        <div className="p-4">
          <ErrorNote error={targets.error} />
        </div>
      )}
      {targets.data?.items.length === 0 && <EmptyNote title="Nobody is told.">A chat, a system of yours, or people by mail can be told when a show begins, holds, is over, and what else happens.</EmptyNote>}
      <ul className="divide-y divide-base-300">
        {targets.data?.items.map((target) => (
          <Row key={target.id} target={target} onOpen={setOpen} />
        ))}
      </ul>
      {open?.kind === "add" && <SetTarget {...shared} />}
      {open?.kind === "change" && <SetTarget {...shared} present={open.target} />}
      {open?.kind === "try" && <TryTarget name={open.target.name} onClose={close} />}
      {secret && <NewSecret of="calls" secret={secret} onClose={() => setSecret(undefined)} />}
    </Section>
  );
}
