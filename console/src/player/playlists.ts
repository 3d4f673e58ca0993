/** HLS, with low latency or without: by hls.js, fetched only now, or by the browser itself. */

import type Hls from "hls.js";

import type { WayEvents } from "./pictures";
import { soundLabel } from "./pictures";
import type { Playing } from "./player";

/** Stalls within this time that make low latency not worth it. */
const STALLS = 4;
const STALLS_MS = 30_000;

/** What is left between the oldest there is and where one can go back to. */
const MARGIN_S = 6;

class PlaylistPlayer implements Playing {
  private hls: Hls | null = null;
  private stalls: number[] = [];
  private stopped = false;

  constructor(
    private readonly video: HTMLVideoElement,
    private readonly address: string,
    private readonly isNear: boolean,
    private sound: number,
    private readonly events: WayEvents,
    /** So many seconds before now it begins. */
    private readonly back: number | null,
  ) {
    void this.begin();
  }

  private async begin(): Promise<void> {
    const { default: Library } = await import("hls.js");
    if (this.stopped) return;
    if (!Library.isSupported()) {
      this.video.src = this.address;
      this.video.addEventListener("error", this.failed);
      this.video.addEventListener("ended", this.ended);
      void this.video.play().catch(() => undefined);
      return;
    }
    const hls = new Library({
      lowLatencyMode: this.isNear,
      enableWorker: false,
      backBufferLength: 60,
      maxLiveSyncPlaybackRate: 1.15,
      ...(this.back !== null ? { liveSyncDuration: this.back } : this.isNear ? {} : { liveSyncDurationCount: 3 }),
    });
    this.hls = hls;
    hls.on(Library.Events.ERROR, (_, error) => {
      if (error.details === Library.ErrorDetails.BUFFER_STALLED_ERROR) this.noteStall();
      if (!error.fatal) return;
      if (error.type === Library.ErrorTypes.MEDIA_ERROR && this.stalls.length === 0) {
        this.noteStall();
        hls.recoverMediaError();
      } else this.fail(`${error.details}`);
    });
    hls.on(Library.Events.AUDIO_TRACKS_UPDATED, (_, { audioTracks }) => {
      this.events.onSounds(
        audioTracks.map((track, at) => ({ place: at + 1, label: soundLabel(at + 1, track.name, track.lang) })),
      );
      if (audioTracks.length >= this.sound) hls.audioTrack = this.sound - 1;
    });
    this.video.addEventListener("ended", this.ended);
    hls.loadSource(this.address);
    hls.attachMedia(this.video);
    // From there on it is as near as it is elsewhere.
    this.video.addEventListener("playing", () => (hls.config.liveSyncDuration = undefined), { once: true });
    hls.on(Library.Events.MANIFEST_PARSED, () => void this.video.play().catch(() => undefined));
  }

  private readonly failed = () => this.fail("the browser cannot play it");
  private readonly ended = () => {
    if (!this.stopped) this.events.onOver();
  };

  private noteStall(): void {
    const now = performance.now();
    this.stalls = [...this.stalls.filter((at) => now - at < STALLS_MS), now];
    if (this.isNear && this.stalls.length >= STALLS) this.fail("it stalled too often");
  }

  chooseSound(place: number): void {
    this.sound = place;
    if (this.hls) this.hls.audioTrack = place - 1;
  }

  /** Plays on from so many seconds before now, or from the oldest there is. */
  goBack(seconds: number): void {
    const { seekable } = this.video;
    const last = seekable.length - 1;
    const edge = this.hls?.latestLevelDetails?.edge ?? (last < 0 ? NaN : seekable.end(last));
    if (!Number.isFinite(edge)) return;
    const oldest = this.hls?.latestLevelDetails?.fragmentStart ?? seekable.start(last);
    // Not quite to the oldest, which may go in a moment.
    this.video.currentTime = Math.max(oldest + MARGIN_S, edge - seconds);
    void this.video.play().catch(() => undefined);
  }

  toLive(): void {
    const at = this.hls?.liveSyncPosition ?? this.video.seekable.end(Math.max(0, this.video.seekable.length - 1));
    if (Number.isFinite(at)) this.video.currentTime = at;
    void this.video.play().catch(() => undefined);
  }

  behind(): number | null {
    const latency = this.hls?.latency;
    return latency === undefined ? null : latency;
  }

  bitrate(): number | null {
    return this.hls?.levels[this.hls.currentLevel]?.bitrate ?? null;
  }

  private fail(reason: string): void {
    if (this.stopped) return;
    this.stop();
    this.events.onFailed(reason);
  }

  stop(): void {
    this.stopped = true;
    this.video.removeEventListener("error", this.failed);
    this.video.removeEventListener("ended", this.ended);
    this.hls?.destroy();
    this.hls = null;
  }
}

export function playPlaylists(
  video: HTMLVideoElement,
  address: string,
  isNear: boolean,
  sound: number,
  events: WayEvents,
  back: number | null = null,
): Playing {
  return new PlaylistPlayer(video, address, isNear, sound, events, back);
}
