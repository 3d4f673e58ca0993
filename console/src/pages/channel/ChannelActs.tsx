import { useChannelActs } from "../../api/queries";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { ActTable } from "../acts/ActTable";
import { Section } from "./Section";

/** What people did on a channel lately. */
export function ChannelActs({ channel }: { channel: string }) {
  const list = useChannelActs(channel);
  const acts = list.data?.items ?? [];
  return (
    <Section title="Who did what">
      {list.isPending && <LoadingNote />}
      {list.error && <ErrorNote error={list.error} />}
      {list.data && acts.length === 0 && <EmptyNote title="Nothing yet." />}
      {acts.length > 0 && (
        <div className="overflow-x-auto">
          <ActTable acts={acts} hasChannel={false} />
        </div>
      )}
    </Section>
  );
}
