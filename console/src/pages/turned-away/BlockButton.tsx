import { Ban } from "lucide-react";
import { useState } from "react";
import { AddRule } from "./AddRule";

/** Blocks the address of a line of the list, after asking for how long. */
export function BlockButton({ address }: { address: string }) {
  const [isOpen, setOpen] = useState(false);
  return (
    <>
      <button type="button" className="btn btn-ghost btn-square btn-sm" aria-label={`Block ${address}`} onClick={() => setOpen(true)}>
        <Ban aria-hidden className="size-4" />
      </button>
      {isOpen && <AddRule range={address} onClose={() => setOpen(false)} />}
    </>
  );
}
