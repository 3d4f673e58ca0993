import { Plus, Trash2 } from "lucide-react";
import { useState } from "react";
import { useKeys, useRemoveKey } from "../../api/queries";
import { CopyField } from "../../components/CopyField";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { moment } from "../../lib/format";
import { AddKey } from "./AddKey";
import { Section } from "./Section";

export function Keys({ channel, server }: { channel: string; server: string }) {
  const keys = useKeys(channel);
  const remove = useRemoveKey(channel);
  const [isAdding, setAdding] = useState(false);
  const onRemove = (id: number, label: string) => {
    if (window.confirm(`Remove the key for “${label}”? An encoder or player that uses it is ended at once.`)) remove.mutate(id);
  };
  const action = (
    <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
      <Plus className="size-4" /> Make key
    </button>
  );
  return (
    <Section title="Keys" action={action}>
      <div className="border-b border-base-300 px-4 py-3 sm:px-5">
        <CopyField label="Server field of the encoder" value={server} hint="The key field takes one of the keys below; a key is shown once, when it is made." />
      </div>
      {keys.isPending && <LoadingNote />}
      {keys.error && <ErrorNote error={keys.error} />}
      {remove.error && <ErrorNote error={remove.error} />}
      {keys.data?.length === 0 && (
        <EmptyNote title="No keys yet.">Make one for each person or device that will publish here.</EmptyNote>
      )}
      <ul className="divide-y divide-base-300">
        {keys.data?.map((key) => (
          <li key={key.id} className="flex items-center gap-3 px-4 py-2.5 sm:px-5">
            <div className="min-w-0 flex-1">
              <p className="truncate font-medium">{key.label}</p>
              <p className="text-sm text-base-content/65">
                <span className="font-mono">{key.prefix}-…</span> · {key.right === "view" ? "for watching · " : key.rank > 0 ? "backup · " : ""}made {moment(key.created_at)}
                {key.expires_at && ` · until ${moment(key.expires_at)}`}
                {key.allowed_from.length > 0 && ` · only from ${key.allowed_from.join(", ")}`}
              </p>
            </div>
            <button type="button" className="btn btn-ghost btn-square btn-sm" aria-label={`Remove key ${key.label}`} onClick={() => onRemove(key.id, key.label)}>
              <Trash2 className="size-4" />
            </button>
          </li>
        ))}
      </ul>
      {isAdding && <AddKey channel={channel} onClose={() => setAdding(false)} />}
    </Section>
  );
}
