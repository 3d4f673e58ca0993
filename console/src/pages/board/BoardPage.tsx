import { Plus } from "lucide-react";
import { useState } from "react";
import { useOutletContext } from "react-router";
import type { Live } from "../../api/live";
import { Allowed } from "../../components/Allowed";
import { EmptyNote, LoadingNote } from "../../components/Notes";
import { inOrder, summary } from "../../lib/state";
import { AddChannel } from "./AddChannel";
import { FindingList } from "../../components/FindingList";
import { ChannelCard } from "./ChannelCard";
import { Headline } from "./Headline";

export function BoardPage() {
  const { board } = useOutletContext<Live>();
  const [isAdding, setAdding] = useState(false);
  if (!board) return <LoadingNote />;
  return (
    <>
      <div className="mb-5 flex flex-wrap items-center justify-between gap-3">
        <Headline summary={summary(board)} />
        <Allowed least="engineer">
          <button type="button" className="btn btn-sm bg-base-100" onClick={() => setAdding(true)}>
            <Plus className="size-4" /> Add channel
          </button>
        </Allowed>
      </div>
      {board.findings.length > 0 && (
        <div className="panel mb-4 [&>div]:border-b-0">
          <FindingList findings={board.findings} />
        </div>
      )}
      {board.channels.length === 0 && (
        <div className="panel">
          <EmptyNote title="No channels yet.">
            Add one, make a stream key for it, and paste its two fields into your encoder.
          </EmptyNote>
        </div>
      )}
      <div className="space-y-4">
        {inOrder(board.channels).map((channel) => (
          <ChannelCard key={channel.name} channel={channel} />
        ))}
      </div>
      {isAdding && <AddChannel onClose={() => setAdding(false)} />}
    </>
  );
}
