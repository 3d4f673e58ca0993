import { useOutletContext } from "react-router";
import type { Live } from "../../api/live";
import { useMeanings } from "../../api/queries";
import type { Board, FindingMeaning } from "../../api/types";
import { FindingLine } from "../../components/FindingList";
import { EmptyNote, LoadingNote } from "../../components/Notes";
import { Section } from "../channel/Section";
import { Ask } from "./Ask";

function Standing({ board }: { board: Board }) {
  const channels = board.channels.map(({ name, findings }) => ({ of: name, findings }));
  const all = [{ of: "the house", findings: board.findings }, ...channels].flatMap(({ of, findings }) => findings.map((finding) => ({ of, finding })));
  if (all.length === 0) return <EmptyNote title="Nothing is wrong." />;
  return (
    <ul className="divide-y divide-base-300">
      {all.map(({ of, finding }) => (
        <FindingLine key={`${of} ${finding.code} ${finding.track} ${finding.destination}`} of={of} finding={finding} />
      ))}
    </ul>
  );
}

function Meanings({ meanings }: { meanings: FindingMeaning[] }) {
  return (
    <div className="overflow-x-auto">
      <table className="table table-sm [&_:is(td,th):first-child]:pl-5 [&_td]:align-top">
        <thead>
          <tr>
            <th>Finding</th>
            <th>Told when</th>
            <th>Usually means</th>
            <th>Do</th>
          </tr>
        </thead>
        <tbody>
          {meanings.map((meaning) => (
            <tr key={meaning.code}>
              <td className="whitespace-nowrap font-mono text-xs">{meaning.code}</td>
              <td>
                {meaning.when}
                {meaning.raised_after_s > 0 && `, for ${meaning.raised_after_s} s`}
              </td>
              <td>{meaning.means}</td>
              <td>{meaning.advice}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** What is wrong, what a platform's words may mean, and what can be found at all. */
export function FindingsPage() {
  const { board } = useOutletContext<Live>();
  const meanings = useMeanings();
  if (!board) return <LoadingNote />;
  return (
    <>
      <h1 className="mb-5 text-2xl font-semibold tracking-tight">Findings</h1>
      <div className="space-y-5">
        <Section title="Now">
          <Standing board={board} />
        </Section>
        <Ask channels={board.channels.map(({ name }) => name)} />
        <Section title="All that can be found">{meanings.data ? <Meanings meanings={meanings.data} /> : <LoadingNote />}</Section>
      </div>
    </>
  );
}
