type Props = { label: string; isBusy: boolean; onCancel: () => void };

/** The buttons at the foot of a dialog's form. */
export function FormActions({ label, isBusy, onCancel }: Props) {
  return (
    <div className="modal-action">
      <button type="button" className="btn" onClick={onCancel}>
        Cancel
      </button>
      <button type="submit" className="btn btn-primary" disabled={isBusy}>
        {label}
      </button>
    </div>
  );
}
