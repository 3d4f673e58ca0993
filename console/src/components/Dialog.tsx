import { type ReactNode, useEffect, useRef } from "react";

type Props = { title: string; isWide?: boolean; onClose: () => void; children: ReactNode };

/** A dialog that is open while it is there; Escape and the backdrop close it. */
export function Dialog({ title, isWide = false, onClose, children }: Props) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    if (dialog.current && !dialog.current.open) dialog.current.showModal();
  }, []);
  return (
    <dialog ref={dialog} className="modal modal-bottom sm:modal-middle" onClose={onClose} aria-label={title}>
      <div className={`modal-box border border-base-300 ${isWide ? "max-w-4xl" : ""}`}>
        <h2 className="text-lg font-semibold">{title}</h2>
        <div className="mt-4">{children}</div>
      </div>
      <form method="dialog" className="modal-backdrop">
        <button type="submit">close</button>
      </form>
    </dialog>
  );
}
