import { ArrowLeft, Clapperboard, SlidersHorizontal } from "lucide-react";
import { useState } from "react";
import { Link, useOutletContext, useParams } from "react-router";
import type { Live } from "../../api/live";
import { OnChannel } from "../../api/may";
import { useChannel, useEndSession } from "../../api/queries";
import { Allowed } from "../../components/Allowed";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { seconds } from "../../lib/format";
import { recordingRule } from "../../lib/recording";
import { ShowTimeline } from "../../timeline/ShowTimeline";
import { ChannelCard } from "../board/ChannelCard";
import { AskedSystem } from "../systems/AskedSystem";
import { ChannelActs } from "./ChannelActs";
import { Destinations } from "./Destinations";
import { Keys } from "./keys/Keys";
import { LivePicture } from "./LivePicture";
import { Recordings } from "./Recordings";
import { Rehearse } from "./Rehearse";
import { Rules } from "./Rules";
import { Sessions } from "./Sessions";
import { Viewers } from "./Viewers";

export function ChannelPage() {
  const { channel: name = "" } = useParams();
  const { board } = useOutletContext<Live>();
  const channel = useChannel(name);
  const end = useEndSession(name);
  const [open, setOpen] = useState<"rules" | "rehearsal">();
  if (channel.isPending) return <LoadingNote />;
  if (channel.error) return <ErrorNote error={channel.error} />;
  const live = board?.channels.find((entry) => entry.name === name);
  const { title, hold_ms, recording, server, slate } = channel.data;
  return (
    <OnChannel value={name}>
      <Link to="/" className="inline-flex items-center gap-1 text-sm text-base-content/70 hover:underline">
        <ArrowLeft aria-hidden className="size-4" /> Board
      </Link>
      <div className="mb-5 mt-1 flex flex-wrap items-center justify-between gap-3">
        <div>
          <h1 className="text-2xl font-semibold tracking-tight">{title}</h1>
          <p className="text-sm text-base-content/70">
            <span className="font-mono">{name}</span> · waits {seconds(hold_ms)} for a lost encoder{slate === "none" ? "" : " with a slate"} · {recordingRule(recording)}
          </p>
        </div>
        <div className="flex flex-wrap gap-2">
          <Allowed least="engineer">
            <button type="button" className="btn btn-sm" onClick={() => setOpen("rules")}>
              <SlidersHorizontal className="size-4" /> Rules
            </button>
          </Allowed>
          <Allowed least="operator">
          {live?.session ? (
            <button type="button" className="btn btn-sm btn-outline btn-error" disabled={end.isPending} onClick={() => end.mutate(undefined)}>
              End the session
            </button>
          ) : (
            <button type="button" className="btn btn-sm" onClick={() => setOpen("rehearsal")}>
              <Clapperboard className="size-4" /> Rehearse
            </button>
          )}
          </Allowed>
        </div>
      </div>
      <div className="space-y-5">
        {end.error && <ErrorNote error={end.error} />}
        {live && <ChannelCard channel={live} isLinked={false} />}
        {live?.session && <LivePicture key={live.session.id} channel={name} />}
        {live?.session && <ShowTimeline key={`timeline ${live.session.id}`} session={live.session.id} channel={name} isRunning />}
        <div className="grid items-start gap-5 lg:grid-cols-2">
          <Allowed least="engineer">
            <Keys channel={name} server={server} />
          </Allowed>
          <Destinations channel={channel.data} />
        </div>
        <Allowed least="engineer">
          <AskedSystem whose={name} />
        </Allowed>
        <Viewers channel={channel.data} now={live?.viewers} />
        <Recordings channel={channel.data} session={live?.session ?? undefined} />
        <Sessions channel={name} />
        <Allowed least="engineer">
          <ChannelActs channel={name} />
        </Allowed>
      </div>
      {open === "rules" && <Rules channel={channel.data} onClose={() => setOpen(undefined)} />}
      {open === "rehearsal" && <Rehearse channel={channel.data} onClose={() => setOpen(undefined)} />}
    </OnChannel>
  );
}
