/** Plays a channel in a video element, by the way with the least delay that works here. */

import { playPlaylists } from "./playlists";
import { PicturePlayer } from "./pictures";

/** How the show comes to the browser, from the least delay to the most. */
export type Way = "pictures" | "near" | "plain";

export const WAYS: Way[] = ["pictures", "near", "plain"];

/** A way as people read it. */
export const WAY_NAMES: Record<Way, string> = {
  pictures: "a picture at a time",
  near: "low-latency HLS",
  plain: "HLS",
};

export interface Sound {
  /** Its place, counted from 1. */
  place: number;
  label: string;
}

export interface Figures {
  way: Way;
  /** How far behind the newest of what has come, in seconds. */
  behind: number | null;
  /** How much of what has come is not played yet, in seconds. */
  buffered: number;
  droppedFrames: number;
  bitrate: number | null;
}

export interface PlayerEvents {
  /** The way in use changed. */
  onWay(way: Way): void;
  /** The sounds that can be chosen. */
  onSounds(sounds: Sound[], chosen: number): void;
  /** The show is over, as far as this player knows. */
  onOver(): void;
}

/** What each way has in common. */
export interface Playing {
  chooseSound(place: number): void;
  toLive(): void;
  /** Plays on from so many seconds before now; absent where only now can be played. */
  goBack?(seconds: number): void;
  behind(): number | null;
  bitrate(): number | null;
  stop(): void;
}

export interface Addresses {
  pictures: string;
  playlist: string;
}

/** So soon after its begin a way that breaks is given up; one that ran longer is tried again. */
const SOON_MS = 10_000;
const PAUSE_MS = 800;

export class Player {
  private playing: Playing | null = null;
  private place: number;
  private began = 0;
  private sound = 1;
  /** The way before it went back. */
  private wasAt: number | null = null;
  private stopped = false;
  private pause: ReturnType<typeof setTimeout> | undefined;

  constructor(
    private readonly video: HTMLVideoElement,
    private readonly addresses: Addresses,
    private readonly events: PlayerEvents,
    first: Way = "pictures",
    /** Whether another way may be taken where this one does not work. */
    private readonly fallsBack = true,
  ) {
    this.place = WAYS.indexOf(first);
    this.begin();
  }

  private begin(back: number | null = null): void {
    const way = WAYS[this.place] ?? "plain";
    this.began = performance.now();
    this.events.onWay(way);
    const events = {
      onSounds: (sounds: Sound[]) => this.events.onSounds(sounds, this.sound),
      onOver: () => this.events.onOver(),
      onFailed: (reason: string) => this.failed(reason),
    };
    this.playing =
      way === "pictures"
        ? new PicturePlayer(this.video, this.addresses.pictures, this.sound, events)
        : playPlaylists(this.video, this.addresses.playlist, way === "near", this.sound, events, back);
  }

  private failed(reason: string): void {
    if (this.stopped) return;
    this.playing?.stop();
    this.playing = null;
    console.info(`watching by ${WAYS[this.place] ?? ""}: ${reason}`);
    if (this.fallsBack && performance.now() - this.began < SOON_MS && this.place < WAYS.length - 1) this.place += 1;
    clearTimeout(this.pause);
    this.pause = setTimeout(() => {
      if (!this.stopped) this.begin();
    }, PAUSE_MS);
  }

  chooseSound(place: number): void {
    this.sound = place;
    this.playing?.chooseSound(place);
  }

  toLive(): void {
    const place = this.wasAt;
    this.wasAt = null;
    if (place === null || place === this.place) return this.playing?.toLive();
    this.change(place);
  }

  /** Plays on from so many seconds before now, by a way that has what is past. */
  goBack(seconds: number): void {
    if (this.playing?.goBack) return this.playing.goBack(seconds);
    this.wasAt ??= this.place;
    this.change(WAYS.indexOf("plain"), seconds);
  }

  /** Whether what is past stays there while playing pauses. */
  canPause(): boolean {
    return this.playing?.goBack !== undefined;
  }

  private change(place: number, back: number | null = null): void {
    clearTimeout(this.pause);
    this.playing?.stop();
    this.place = place;
    this.begin(back);
  }

  figures(): Figures {
    const { buffered, currentTime } = this.video;
    const end = buffered.length > 0 ? buffered.end(buffered.length - 1) : currentTime;
    const quality = this.video.getVideoPlaybackQuality();
    return {
      way: WAYS[this.place] ?? "plain",
      behind: this.playing?.behind() ?? null,
      buffered: Math.max(0, end - currentTime),
      droppedFrames: quality.droppedVideoFrames,
      bitrate: this.playing?.bitrate() ?? null,
    };
  }

  stop(): void {
    this.stopped = true;
    clearTimeout(this.pause);
    this.playing?.stop();
    this.playing = null;
  }
}
