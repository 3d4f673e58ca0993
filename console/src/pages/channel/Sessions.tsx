import { Link } from "react-router";
import { useSessions } from "../../api/queries";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { clock, moment } from "../../lib/format";
import { Section } from "./Section";

function length(from: string, to: string | null | undefined): string {
  return to ? clock(Date.parse(to) - Date.parse(from)) : "on air";
}

export function Sessions({ channel }: { channel: string }) {
  const sessions = useSessions(channel);
  const items = sessions.data?.items ?? [];
  return (
    <Section title="Sessions">
      {sessions.isPending && <LoadingNote />}
      {sessions.error && <ErrorNote error={sessions.error} />}
      {sessions.data && items.length === 0 && <EmptyNote title="No sessions yet." />}
      {items.length > 0 && (
        <div className="overflow-x-auto">
          <table className="table table-sm [&_:is(td,th):first-child]:pl-5 [&_:is(td,th):last-child]:pr-5">
            <thead>
              <tr>
                <th>Session</th>
                <th>Began</th>
                <th className="text-right">Length</th>
                <th>Key</th>
                <th>From</th>
                <th className="text-right">Encoder lost</th>
                <th>Why it ended</th>
              </tr>
            </thead>
            <tbody>
              {items.map((session) => (
                <tr key={session.id}>
                  <td>
                    <Link to={`/sessions/${session.id}`} className="link font-medium">
                      {session.id}
                    </Link>
                  </td>
                  <td className="whitespace-nowrap">{moment(session.started_at)}</td>
                  <td className="whitespace-nowrap text-right">{length(session.started_at, session.ended_at)}</td>
                  <td>{session.is_rehearsal ? "(rehearsal)" : session.key_label}</td>
                  <td className="font-mono text-xs">{session.publisher_address}</td>
                  <td className="text-right">{session.loss_count}</td>
                  <td>{session.end_reason ?? ""}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </Section>
  );
}
