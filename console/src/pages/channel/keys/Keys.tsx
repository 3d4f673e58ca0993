import { ListPlus, Plus } from "lucide-react";
import { useState } from "react";
import { useEndGuestLink, useKeys, useRemoveKey } from "../../../api/keys";
import type { StreamKey } from "../../../api/types";
import { CopyField } from "../../../components/CopyField";
import { EmptyNote, ErrorNote, LoadingNote } from "../../../components/Notes";
import { Section } from "../Section";
import { AddKey } from "./AddKey";
import { ChangeKey } from "./ChangeKey";
import { ImportKeys } from "./ImportKeys";
import { KeyRow } from "./KeyRow";
import { RenewKey } from "./RenewKey";
import { RetireKey } from "./RetireKey";

type Open = { what: "add" | "list" } | { what: "change" | "renew" | "retire"; key: StreamKey };

export function Keys({ channel, server }: { channel: string; server: string }) {
  const keys = useKeys(channel);
  const remove = useRemoveKey(channel);
  const endLink = useEndGuestLink(channel);
  const [open, setOpen] = useState<Open>();
  const onClose = () => setOpen(undefined);
  const onRemove = (key: StreamKey) => {
    if (window.confirm(`Remove the key for “${key.label}” from the list? Who still comes with it is then told that it is not known.`)) remove.mutate(key.id);
  };
  const onEndLink = (key: StreamKey) => {
    if (window.confirm(`End the guest's link for “${key.label}”? The key itself goes on.`)) endLink.mutate(key.id);
  };
  const current = keys.data?.filter((key) => !key.retired) ?? [];
  const retired = keys.data?.filter((key) => key.retired) ?? [];
  const row = (key: StreamKey) => (
    <KeyRow
      key={key.id}
      streamKey={key}
      onChange={() => setOpen({ what: "change", key })}
      onRenew={() => setOpen({ what: "renew", key })}
      onRetire={() => setOpen({ what: "retire", key })}
      onEndLink={() => onEndLink(key)}
      onRemove={() => onRemove(key)}
    />
  );
  const action = (
    <div className="flex gap-2">
      <button type="button" className="btn btn-sm" onClick={() => setOpen({ what: "list" })}>
        <ListPlus className="size-4" /> From a list
      </button>
      <button type="button" className="btn btn-sm" onClick={() => setOpen({ what: "add" })}>
        <Plus className="size-4" /> Make key
      </button>
    </div>
  );
  return (
    <Section title="Keys" action={action}>
      <div className="border-b border-base-300 px-4 py-3 sm:px-5">
        <CopyField label="Server field of the encoder" value={server} hint="The key field takes one of the keys below; a key is shown once, when it is made." />
      </div>
      {keys.isPending && <LoadingNote />}
      {keys.error && <ErrorNote error={keys.error} />}
      {remove.error && <ErrorNote error={remove.error} />}
      {endLink.error && <ErrorNote error={endLink.error} />}
      {keys.data?.length === 0 && <EmptyNote title="No keys yet.">Make one for each person or device that will publish here.</EmptyNote>}
      <ul className="divide-y divide-base-300">{current.map(row)}</ul>
      {retired.length > 0 && (
        <details className="border-t border-base-300">
          <summary className="cursor-pointer px-4 py-2.5 text-sm font-medium sm:px-5">Retired keys ({retired.length})</summary>
          <ul className="divide-y divide-base-300">{retired.map(row)}</ul>
        </details>
      )}
      {open?.what === "add" && <AddKey channel={channel} onClose={onClose} />}
      {open?.what === "list" && <ImportKeys channel={channel} onClose={onClose} />}
      {open?.what === "change" && <ChangeKey channel={channel} present={open.key} onClose={onClose} />}
      {open?.what === "renew" && <RenewKey channel={channel} present={open.key} now={keys.dataUpdatedAt} onClose={onClose} />}
      {open?.what === "retire" && <RetireKey channel={channel} present={open.key} onClose={onClose} />}
    </Section>
  );
}
