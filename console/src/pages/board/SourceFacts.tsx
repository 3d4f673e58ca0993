import type { LiveAudio, LiveChannel, LiveSession } from "../../api/types";
import { LevelBars } from "../../components/LevelBars";
import { bitrate, clock, megabits } from "../../lib/format";
import { Fact } from "./Fact";
import { LineFacts } from "./LineFacts";

function keyframes(session: LiveSession): string {
  const spacing = session.video?.keyframe_spacing_ms;
  return spacing ? `up to ${(spacing / 1000).toFixed(1)} s` : "–";
}

function pictureSize({ video }: LiveSession): string {
  if (!video) return "none";
  return video.width && video.height ? `${video.width}×${video.height}` : "not told";
}

function soundFormat(track: LiveAudio): string {
  const channels = track.channel_count === 1 ? "mono" : track.channel_count === 2 ? "stereo" : `${track.channel_count} ch`;
  return `${track.codec} ${track.sample_rate_hz / 1000} kHz ${channels}`;
}

/** What the stream calls a sound; destinations choose by it. */
function soundLabel({ name, language }: LiveAudio): string | undefined {
  return [name, language].filter(Boolean).join(" · ") || undefined;
}

function recording({ recorder, take }: LiveSession): string {
  if (recorder === "recording" && take) return `take ${take.number}, ${clock(take.duration_ms)}`;
  return recorder === "waiting" ? "waits for a keyframe" : recorder;
}

/** A track of sound with its level, or why it is not listened to. */
function Sound({ track, label }: { track: LiveAudio; label: string }) {
  return (
    <>
      <Fact label={label} value={soundFormat(track)} more={soundLabel(track)} />
      {track.heard && track.heard.channels.length > 0 && (
        <div>
          <dt className="sr-only">{label}, level</dt>
          <dd>
            <LevelBars heard={track.heard} label={label} />
          </dd>
        </div>
      )}
      {track.not_heard && <Fact label="" value={track.not_heard} />}
    </>
  );
}

/** What comes in: bitrate and frame rate large, the rest beside their names. */
export function SourceFacts({ channel }: { channel: LiveChannel }) {
  const { session, viewers, publishing } = channel;
  if (!session) {
    return (
      <div className="px-4 py-5 text-sm text-base-content/65 sm:px-5">
        <p className="font-medium text-base-content/80">No encoder</p>
        <p className="mt-1">It can come at any time.</p>
        {viewers.total > 0 && <p className="mt-1">Waiting for the show: {viewers.total}</p>}
      </div>
    );
  }
  const { video, audio } = session;
  return (
    <div className="px-4 py-4 sm:px-5">
      <div className="flex items-baseline gap-5">
        <p>
          <span className="text-3xl font-semibold tracking-tight">{megabits(session.bitrate_bps)}</span>
          <span className="ml-1 text-sm text-base-content/65">Mbit/s</span>
        </p>
        {video && (
          <p>
            <span className="text-3xl font-semibold tracking-tight">{video.frame_rate.toFixed(0)}</span>
            <span className="ml-1 text-sm text-base-content/65">fps</span>
          </p>
        )}
      </div>
      <dl className="mt-3 space-y-1 text-sm">
        <Fact label="Picture" value={pictureSize(session)} />
        {video && <Fact label="Codec" value={[video.codec, video.level].filter(Boolean).join(" ")} more={[video.sampling, video.colour].filter(Boolean).join(" · ") || undefined} />}
        {video && <Fact label="Keyframes" value={keyframes(session)} />}
        {audio.length === 0 && <Fact label="Sound" value="none" />}
        {audio.map((track, place) => (
          <Sound key={place} track={track} label={audio.length > 1 ? `Sound ${place + 1}` : "Sound"} />
        ))}
        {audio.length > 0 && <Fact label="Sound rate" value={bitrate(session.audio_bitrate_bps)} />}
        <Fact label="Key" value={session.key_label} />
        {session.waiting.map((label) => (
          <Fact key={label} label="Backup" value={label} />
        ))}
        {viewers.total > 0 && <Fact label="Viewers" value={String(viewers.total)} />}
        {publishing && <Fact label="Published" value={publishing.depot} />}
        <Fact label="Recording" value={recording(session)} />
        {session.loss_count > 0 && <Fact label="Encoder lost" value={`${session.loss_count}×`} />}
      </dl>
      {session.line && <LineFacts line={session.line} />}
    </div>
  );
}
