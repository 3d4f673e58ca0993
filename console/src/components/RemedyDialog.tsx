import { useRemedy } from "../api/queries";
import type { Finding } from "../api/types";
import { Dialog } from "./Dialog";
import { FormActions } from "./FormActions";
import { ErrorNote } from "./Notes";

type Props = { channel: string; finding: Finding; onClose: () => void };

/** Says what would be done about a finding, and has it done. */
export function RemedyDialog({ channel, finding, onClose }: Props) {
  const remedy = useRemedy(channel);
  const carryOut = () => remedy.mutate({ code: finding.code, destination: finding.destination }, { onSuccess: onClose });
  return (
    <Dialog title="Have it done" onClose={onClose}>
      <form
        className="space-y-4"
        onSubmit={(event) => {
          event.preventDefault();
          carryOut();
        }}
      >
        <p className="text-sm text-base-content/75">
          <span className="inline-block first-letter:uppercase">{finding.cause}</span>.
        </p>
        <p>This will {finding.remedy?.text}.</p>
        {remedy.error && <ErrorNote error={remedy.error} />}
        <FormActions label="Do it" isBusy={remedy.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
