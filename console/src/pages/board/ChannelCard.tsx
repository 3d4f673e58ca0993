import { ChevronRight } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { OnChannel, useMay } from "../../api/may";
import { useMute } from "../../api/queries";
import type { Finding, LiveChannel } from "../../api/types";
import { FindingList } from "../../components/FindingList";
import { RemedyDialog } from "../../components/RemedyDialog";
import { StateText } from "../../components/StateText";
import { clock } from "../../lib/format";
import { channelTone } from "../../lib/state";
import { Delta } from "./Delta";
import { LegRow } from "./LegRow";
import { Opened, Still } from "./Preview";
import { SourceFacts } from "./SourceFacts";

function since(channel: LiveChannel): string {
  const session = channel.session;
  if (!session) return channel.state;
  switch (channel.state) {
    case "holding":
      return `holding${session.is_slate_on ? " with slate" : ""}, ${clock(session.hold_left_ms ?? 0)} left`;
    case "over":
      return "over, delayed legs play on";
    case "off air":
    case "on air": {
      if (session.is_slate_on) return "encoder silent, slate is on";
      const what = session.is_rehearsal ? "rehearsing" : channel.state;
      return `${what} ${clock(Date.now() - Date.parse(session.started_at))}`;
    }
  }
}

/** What is wrong or odd; on the channel's own page it can be muted for the show. */
function Findings({ channel, canMute }: { channel: LiveChannel; canMute: boolean }) {
  const mute = useMute(channel.name);
  const [offered, setOffered] = useState<Finding>();
  const mayRun = useMay("operator");
  if (!canMute || !mayRun) return <FindingList findings={channel.findings} />;
  const change = (isMuted: boolean) => (code: string) => mute.mutate({ code, isMuted });
  return (
    <>
      <FindingList findings={channel.findings} onMute={change(true)} onUnmute={change(false)} onRemedy={setOffered} />
      {offered && <RemedyDialog channel={channel.name} finding={offered} onClose={() => setOffered(undefined)} />}
      {mute.error && <p className="px-5 py-2 text-sm text-error">{mute.error.message}</p>}
    </>
  );
}

type Props = { channel: LiveChannel; isLinked?: boolean };

/** A channel with its source on the left and its legs on the right. */
export function ChannelCard(props: Props) {
  return (
    <OnChannel value={props.channel.name}>
      <Card {...props} />
    </OnChannel>
  );
}

function Card({ channel, isLinked = true }: Props) {
  const [isOpen, setOpen] = useState(false);
  const hasPicture = isLinked && Boolean(channel.session?.video);
  return (
    <section className="panel overflow-hidden" aria-label={channel.title}>
      <div className="flex items-center justify-between gap-3 border-b border-base-300 px-4 py-3 sm:px-5">
        <div className="flex flex-wrap items-baseline gap-x-4">
          {isLinked ? (
            <Link to={`/channels/${channel.name}`} className="group flex items-center gap-1 text-lg font-semibold tracking-tight hover:underline">
              {channel.title}
              <ChevronRight aria-hidden className="size-4 opacity-40 transition-transform group-hover:translate-x-0.5" />
            </Link>
          ) : (
            <h2 className="text-lg font-semibold tracking-tight">Now</h2>
          )}
          {isLinked && <span className="font-mono text-xs text-base-content/60">{channel.name}</span>}
        </div>
        <StateText tone={channelTone(channel)}>{since(channel)}</StateText>
      </div>
      <Findings channel={channel} canMute={!isLinked && Boolean(channel.session)} />
      {hasPicture && isOpen && <Opened channel={channel.name} title={channel.title} onClose={() => setOpen(false)} />}
      <div className="grid md:grid-cols-[15rem_4.5rem_1fr]">
        <div>
          {hasPicture && !isOpen && <Still channel={channel.name} title={channel.title} onOpen={() => setOpen(true)} />}
          <SourceFacts channel={channel} />
        </div>
        <Delta legs={channel.legs} isLive={Boolean(channel.session)} />
        <div className="grid auto-rows-fr border-t border-base-300 md:border-t-0">
          {channel.legs.length === 0 && (
            <p className="px-5 py-6 text-sm text-base-content/65">No destinations. The stream is only recorded.</p>
          )}
          {channel.legs.map((leg) => (
            <LegRow key={leg.destination} channel={channel.name} leg={leg} />
          ))}
        </div>
      </div>
    </section>
  );
}
