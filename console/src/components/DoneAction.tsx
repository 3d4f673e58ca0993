/** The button at the foot of a dialog that only shows something. */
export function DoneAction({ onClose }: { onClose: () => void }) {
  return (
    <div className="modal-action">
      <button type="button" className="btn btn-primary" onClick={onClose}>
        Done
      </button>
    </div>
  );
}
