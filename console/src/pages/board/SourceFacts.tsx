import type { LiveAudio, LiveChannel, LiveSession } from "../../api/types";
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
        {video && <Fact label="Codec" value={video.codec} />}
        {video && <Fact label="Keyframes" value={keyframes(session)} />}
        {audio.length === 0 && <Fact label="Sound" value="none" />}
        {audio.map((track, place) => (
          <Fact
            key={place}
            label={audio.length > 1 ? `Sound ${place + 1}` : "Sound"}
            value={soundFormat(track)}
            more={soundLabel(track)}
          />
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
      {publishing?.fault && (
        <p role="alert" className="mt-3 rounded-field bg-error/15 p-2 text-sm text-error">
          Not published to {publishing.depot} as it should be: {publishing.fault}
        </p>
      )}
      {session.recorder_reason && (
        <p role="alert" className="mt-3 rounded-field bg-error/15 p-2 text-sm text-error">
          The recording is stopped: {session.recorder_reason}. It goes on by itself when it can.
        </p>
      )}
      {session.findings.map((finding) => (
        <p key={finding} className="mt-3 rounded-field bg-warning/15 p-2 text-sm text-warning">
          {finding}
        </p>
      ))}
    </div>
  );
}
