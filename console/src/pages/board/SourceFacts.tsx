import type { LiveSession } from "../../api/types";
import { bitrate, megabits } from "../../lib/format";

function Fact({ label, value }: { label: string; value: string }) {
  return (
    <div className="flex justify-between gap-3">
      <dt className="text-base-content/65">{label}</dt>
      <dd className="text-right font-medium">{value}</dd>
    </div>
  );
}

function keyframes(session: LiveSession): string {
  const spacing = session.video?.keyframe_spacing_ms;
  return spacing ? `up to ${(spacing / 1000).toFixed(1)} s` : "–";
}

/** What comes in: bitrate and frame rate large, the rest beside their names. */
export function SourceFacts({ session }: { session: LiveSession | undefined }) {
  if (!session) {
    return (
      <div className="px-4 py-5 text-sm text-base-content/65 sm:px-5">
        <p className="font-medium text-base-content/80">No encoder</p>
        <p className="mt-1">It can come at any time.</p>
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
        <Fact label="Picture" value={video ? `${video.width}×${video.height}` : "none"} />
        {video && <Fact label="Codec" value={video.codec} />}
        {video && <Fact label="Keyframes" value={keyframes(session)} />}
        <Fact label="Sound" value={audio ? `${audio.codec} ${audio.sample_rate_hz / 1000} kHz` : "none"} />
        {audio && <Fact label="Sound rate" value={bitrate(audio.bitrate_bps)} />}
        <Fact label="Key" value={session.key_label} />
        {session.loss_count > 0 && <Fact label="Encoder lost" value={`${session.loss_count}×`} />}
      </dl>
      {session.problem && <p className="mt-3 rounded-field bg-warning/15 p-2 text-sm text-warning">{session.problem}</p>}
    </div>
  );
}
