import { useJob } from "../../api/queries";
import { ErrorNote } from "../../components/Notes";

type Props = { job: number | undefined; doing: string; done: (result: unknown) => string };

/** How far long work is, and what came of it. */
export function JobLine({ job, doing, done }: Props) {
  const report = useJob(job);
  if (job === undefined) return null;
  if (report.error) return <ErrorNote error={report.error} />;
  const state = report.data?.state;
  if (state === "failed") {
    return (
      <p role="alert" className="text-sm text-error">
        {report.data?.error}
      </p>
    );
  }
  if (state === "done") {
    return (
      <p role="status" className="text-sm">
        {done(report.data?.result)}
      </p>
    );
  }
  return (
    <p role="status" className="flex items-center gap-3 text-sm">
      {doing} <progress className="progress progress-primary w-48" value={report.data?.progress ?? 0} max={1} />
    </p>
  );
}
