import { useState } from "react";
import { type DeliveryFilter, useCallTargets, useDeliveries, useDelivery, useDeliverAgain } from "../../api/calls";
import type { Delivery, DeliveryState } from "../../api/types";
import { CodeBlock } from "../../components/CodeBlock";
import { Dialog } from "../../components/Dialog";
import { DoneAction } from "../../components/DoneAction";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { moment } from "../../lib/format";
import { Section } from "../channel/Section";
import { callText, standing } from "./callForm";
import { legible } from "./systemForm";

const STATES = [
  ["", "All"],
  ["waiting", "Waiting"],
  ["delivered", "Taken"],
  ["given_up", "Given up"],
] as const;

const TONES: Record<DeliveryState, string> = { waiting: "badge-warning", delivered: "badge-success", given_up: "badge-error" };
const WORDS: Record<DeliveryState, string> = { waiting: "waiting", delivered: "taken", given_up: "given up" };

function DeliveryDialog({ delivery, onClose }: { delivery: number; onClose: () => void }) {
  const seen = useDelivery(delivery);
  const again = useDeliverAgain();
  const one = seen.data?.delivery;
  return (
    <Dialog title={one ? `To ${one.target}` : "Delivery"} isWide onClose={onClose}>
      {seen.isPending && <LoadingNote />}
      {(seen.error ?? again.error) && <ErrorNote error={seen.error ?? again.error} />}
      {one && (
        <div className="space-y-4">
          <p className="text-sm">{one.text}</p>
          <p className="text-sm text-base-content/75">
            {moment(one.happened_at)} · {WORDS[one.state]} · {standing(one)}
          </p>
          <div className="grid gap-4 sm:grid-cols-2">
            {seen.data?.request && <CodeBlock title="Call">{callText(seen.data.request)}</CodeBlock>}
            {one.tried_at && <CodeBlock title={`Answer, ${moment(one.tried_at)}`}>{[one.status ?? one.fault ?? "", legible(seen.data?.answer ?? "")].join("\n\n").trim() || "none"}</CodeBlock>}
          </div>
          <button type="button" className="btn btn-sm" disabled={again.isPending} onClick={() => again.mutate(delivery)}>
            {one.state === "waiting" ? "Tell it now" : "Tell it again"}
          </button>
        </div>
      )}
      <DoneAction onClose={onClose} />
    </Dialog>
  );
}

function Row({ one, onOpen }: { one: Delivery; onOpen: () => void }) {
  return (
    <li className="flex flex-wrap items-baseline gap-x-4 gap-y-1 px-4 py-2.5 text-sm sm:px-5">
      <span className="whitespace-nowrap tabular-nums text-base-content/75">{moment(one.happened_at)}</span>
      <span className="font-medium sm:w-36">{one.target}</span>
      <div className="w-full min-w-0 sm:w-auto sm:flex-1">
        <button type="button" className="link-hover link text-left" onClick={onOpen}>
          {one.text}
        </button>
        <p className="font-mono text-xs text-base-content/65">{one.kind}</p>
      </div>
      <div className="sm:w-64">
        <span className={`badge badge-sm ${TONES[one.state]}`}>{WORDS[one.state]}</span>
        <span className="ml-2 text-xs text-base-content/65">{standing(one)}</span>
      </div>
    </li>
  );
}

/** What others were told, and what waits. */
export function Deliveries() {
  const targets = useCallTargets();
  const [filter, setFilter] = useState<DeliveryFilter>({});
  const [open, setOpen] = useState<number>();
  const list = useDeliveries(filter);
  const items = list.data?.pages.flatMap((page) => page.items) ?? [];
  const names = targets.data?.items ?? [];
  const action = (
    <div className="flex flex-wrap gap-2">
      <select className="select select-sm w-auto" aria-label="Target" value={filter.target ?? ""} onChange={(event) => setFilter({ ...filter, target: event.target.value || undefined })}>
        <option value="">All targets</option>
        {names.map(({ name }) => (
          <option key={name}>{name}</option>
        ))}
      </select>
      <select className="select select-sm w-auto" aria-label="State" value={filter.state ?? ""} onChange={(event) => setFilter({ ...filter, state: (event.target.value || undefined) as DeliveryState | undefined })}>
        {STATES.map(([value, label]) => (
          <option key={value} value={value}>
            {label}
          </option>
        ))}
      </select>
    </div>
  );
  return (
    <Section title="Deliveries" action={action}>
      {list.isPending && <LoadingNote />}
      {list.error && (
        <div className="p-4">
          <ErrorNote error={list.error} />
        </div>
      )}
      {list.data && items.length === 0 && <EmptyNote title="Nothing was told." />}
      <ul className="divide-y divide-base-300">
        {items.map((one) => (
          <Row key={one.id} one={one} onOpen={() => setOpen(one.id)} />
        ))}
      </ul>
      {list.hasNextPage && (
        <div className="border-t border-base-300 p-3 text-center">
          <button type="button" className="btn btn-sm" disabled={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
            Older
          </button>
        </div>
      )}
      {open !== undefined && <DeliveryDialog delivery={open} onClose={() => setOpen(undefined)} />}
    </Section>
  );
}
