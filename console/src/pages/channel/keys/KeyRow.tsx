import { Link2Off, Pencil, RefreshCw, ShieldOff, Trash2 } from "lucide-react";
import type { ReactNode } from "react";
import type { StreamKey } from "../../../api/types";
import { Lamp } from "../../../components/Lamp";
import { moment } from "../../../lib/format";
import { keyRules, keyState } from "../../../lib/keys";

type Props = {
  streamKey: StreamKey;
  onChange: () => void;
  onRenew: () => void;
  onRetire: () => void;
  onEndLink: () => void;
  onRemove: () => void;
};

/** One key: whether it opens, what binds it, and when it was used last. */
export function KeyRow({ streamKey: key, onChange, onRenew, onRetire, onEndLink, onRemove }: Props) {
  const { tone, text } = keyState(key);
  const rules = [...keyRules(key), ...(key.has_passphrase ? ["a passphrase of its own"] : [])];
  const kind = key.right === "view" ? "for watching" : key.rank > 0 ? `backup, rank ${key.rank}` : "for publishing";
  const used = key.last_use;
  return (
    <li className="flex flex-wrap items-center gap-x-3 gap-y-1 px-4 py-2.5 sm:flex-nowrap sm:px-5">
      <div className="min-w-0 flex-1 basis-64">
        <p className="flex flex-wrap items-center gap-x-2">
          <Lamp tone={tone} />
          <span className="font-medium wrap-anywhere">{key.label}</span>
          <span className="text-sm whitespace-nowrap text-base-content/65">{text}</span>
        </p>
        <p className="text-sm text-base-content/65">
          <span className="font-mono">{key.is_own ? "chosen" : `${key.prefix}-…`}</span> · {kind} · made {moment(key.created_at)}
          {key.stands_for && ` · renews key ${key.stands_for}`}
          {key.guest_link_until && ` · guest's link until ${moment(key.guest_link_until)}`}
        </p>
        {rules.length > 0 && <p className="text-sm text-base-content/65">{rules.join(" · ")}</p>}
        <p className="text-sm text-base-content/65">{used ? `last used ${moment(used.at)} from ${used.address} over ${used.protocol.toUpperCase()} by ${used.encoder}` : "not used yet"}</p>
      </div>
      <div className="flex shrink-0">
        {key.guest_link_until && (
          <Action label={`End the guest's link for ${key.label}`} onClick={onEndLink}>
            <Link2Off className="size-4" />
          </Action>
        )}
        {key.retired ? (
          <Action label={`Remove key ${key.label}`} onClick={onRemove}>
            <Trash2 className="size-4" />
          </Action>
        ) : (
          <>
            <Action label={`Change key ${key.label}`} onClick={onChange}>
              <Pencil className="size-4" />
            </Action>
            <Action label={`Renew key ${key.label}`} onClick={onRenew}>
              <RefreshCw className="size-4" />
            </Action>
            <Action label={`Retire key ${key.label}`} onClick={onRetire}>
              <ShieldOff className="size-4" />
            </Action>
          </>
        )}
      </div>
    </li>
  );
}

function Action({ label, onClick, children }: { label: string; onClick: () => void; children: ReactNode }) {
  return (
    <button type="button" className="btn btn-ghost btn-square btn-sm" aria-label={label} title={label} onClick={onClick}>
      {children}
    </button>
  );
}
