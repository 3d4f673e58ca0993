import { TriangleAlert } from "lucide-react";
import type { NewKey } from "../../../api/types";
import { ROOT } from "../../../api/place";
import { CopyField } from "../../../components/CopyField";
import { KeyFields } from "../../../components/KeyFields";
import { DoneAction } from "../../../components/DoneAction";
import { moment } from "../../../lib/format";

/** A key that was just made: shown this once. */
export function MadeKey({ made, onClose }: { made: NewKey; onClose: () => void }) {
  const isForWatching = made.key.right === "view";
  return (
    <div className="space-y-4">
      <p className="text-sm text-base-content/75">
        Paste these into the {isForWatching ? "player" : "encoder"}&apos;s two fields. The key for “{made.key.label}” is shown only now.
      </p>
      {made.warning && <Warning text={made.warning} />}
      {made.guest_token && (
        <CopyField
          label="Guest's link"
          value={`${window.location.origin}${ROOT}/guest#${made.guest_token}`}
          hint={`Shows all this without an account${made.key.guest_link_until ? ` until ${moment(made.key.guest_link_until)}` : ""}, and whether the relay sees the guest. It is shown only now.`}
        />
      )}
      <KeyFields fields={made.encoder} right={made.key.right} />
      <DoneAction onClose={onClose} />
    </div>
  );
}

export function Warning({ text }: { text: string }) {
  return (
    <p role="status" className="flex gap-3 rounded-box border border-warning/40 bg-warning/10 p-3 text-sm">
      <TriangleAlert aria-hidden className="size-5 shrink-0 text-warning" />
      {text}
    </p>
  );
}
