/** A picture at a time over a WebSocket, into Media Source Extensions. */

import type { Playing, Sound } from "./player";

/** What a message is, in its first byte. */
const HEADER = 1;

/** How far behind what has come playing should be, in seconds: less would stutter with each late picture. */
const WISHED_LAG = 0.25;
/** Further behind, playing is a little faster; further still, it jumps. */
const FAST_LAG = 0.55;
const JUMP_LAG = 4;
const FAST = 1.12;
const FASTER = 1.3;
/** What was played is kept so long, in seconds. */
const KEPT = 12;
const STEER_MS = 100;
/** So long nothing may come while connected. */
const SILENCE_MS = 8_000;

interface ToldTrack {
  number: number;
  kind: "video" | "audio";
  codec: string;
  language: string | null;
  name: string | null;
  is_sent: boolean;
}

export interface WayEvents {
  onSounds(sounds: Sound[]): void;
  onOver(): void;
  onFailed(reason: string): void;
}

interface Feed {
  buffer: SourceBuffer;
  waiting: Uint8Array[];
}

/** The name of a codec that browsers know. */
function browserCodec(codec: string): string {
  return codec === "Opus" ? "opus" : codec === "fLaC" ? "flac" : codec;
}

export function soundLabel(place: number, name: string | null | undefined, language: string | null | undefined): string {
  return name ?? language ?? `Sound ${place}`;
}

export class PicturePlayer implements Playing {
  private socket: WebSocket | null = null;
  private source: MediaSource | null = null;
  private readonly feeds = new Map<number, Feed>();
  private steering: ReturnType<typeof setInterval> | undefined;
  private heardAt = performance.now();
  private bits = 0;
  private bitsSince = performance.now();
  private rate: number | null = null;
  private stopped = false;
  private url = "";

  constructor(
    private readonly video: HTMLVideoElement,
    private readonly address: string,
    private sound: number,
    private readonly events: WayEvents,
  ) {
    if (typeof MediaSource === "undefined") {
      // Not at once: who made this has not got it yet.
      setTimeout(() => this.fail("this browser has no Media Source Extensions"), 0);
      return;
    }
    this.connect();
    this.steering = setInterval(() => this.steer(), STEER_MS);
  }

  private connect(): void {
    this.heardAt = performance.now();
    const socket = new WebSocket(`${this.address}?sound=${this.sound}`);
    socket.binaryType = "arraybuffer";
    socket.onmessage = (message) => {
      if (socket !== this.socket) return;
      this.heardAt = performance.now();
      if (typeof message.data === "string") this.begin(message.data);
      else this.take(new Uint8Array(message.data as ArrayBuffer));
    };
    socket.onclose = (closed) => {
      if (socket !== this.socket || this.stopped) return;
      if (closed.code === 1000) this.events.onOver();
      else this.fail("the connection ended");
    };
    this.socket = socket;
  }

  /** Other tracks follow: what has come before is played on where that is possible. */
  private begin(told: string): void {
    const { tracks } = JSON.parse(told) as { tracks: ToldTrack[] };
    const sounds = tracks.filter((track) => track.kind === "audio");
    this.events.onSounds(
      sounds.map((track, at) => ({ place: at + 1, label: soundLabel(at + 1, track.name, track.language) })),
    );
    const sent = tracks.filter((track) => track.is_sent);
    const types = sent.map((track) => ({
      number: track.number,
      kind: track.kind,
      type: `${track.kind}/mp4; codecs="${browserCodec(track.codec)}"`,
    }));
    const unknown = types.find(({ type }) => !MediaSource.isTypeSupported(type));
    if (unknown) return this.fail(`this browser does not play ${unknown.type}`);
    const isSame = types.length === this.feeds.size && types.every(({ number }) => this.feeds.has(number));
    if (isSame && this.source?.readyState === "open") {
      for (const { number, type } of types) this.changeType(number, type);
      return;
    }
    this.open(types);
  }

  private changeType(number: number, type: string): void {
    const feed = this.feeds.get(number);
    if (!feed) return;
    feed.waiting = [];
    if (feed.buffer.updating) feed.buffer.abort();
    feed.buffer.changeType(type);
  }

  private open(types: { number: number; type: string }[]): void {
    this.closeSource();
    const source = new MediaSource();
    const early = new Map<number, Uint8Array[]>();
    types.forEach(({ number }) => early.set(number, []));
    this.early = early;
    source.addEventListener("sourceopen", () => {
      if (source !== this.source) return;
      source.duration = Infinity;
      for (const { number, type } of types) {
        const feed = { buffer: source.addSourceBuffer(type), waiting: early.get(number) ?? [] };
        feed.buffer.addEventListener("updateend", () => this.append(feed));
        feed.buffer.addEventListener("error", () => this.fail("what came cannot be played"));
        this.feeds.set(number, feed);
        this.append(feed);
      }
      this.early = null;
    });
    this.source = source;
    this.url = URL.createObjectURL(source);
    this.video.src = this.url;
    void this.video.play().catch(() => undefined);
  }

  /** What came before the source was open. */
  private early: Map<number, Uint8Array[]> | null = null;

  private take(message: Uint8Array): void {
    const number = message[1] ?? 0;
    const bytes = message.subarray(2);
    this.count(bytes.length);
    const feed = this.feeds.get(number);
    if (!feed) {
      this.early?.get(number)?.push(bytes);
      return;
    }
    // A header behind pieces that were never appended would be for others.
    if (message[0] === HEADER && feed.waiting.length > 200) feed.waiting = [];
    feed.waiting.push(bytes);
    this.append(feed);
  }

  private count(bytes: number): void {
    this.bits += bytes * 8;
    const seconds = (performance.now() - this.bitsSince) / 1000;
    if (seconds >= 2) {
      this.rate = this.bits / seconds;
      this.bits = 0;
      this.bitsSince = performance.now();
    }
  }

  private append(feed: Feed): void {
    if (feed.buffer.updating || this.source?.readyState !== "open") return;
    const old = this.video.currentTime - KEPT;
    if (feed.buffer.buffered.length > 0 && feed.buffer.buffered.start(0) < old - KEPT) {
      feed.buffer.remove(0, old);
      return;
    }
    if (feed.waiting.length === 0) return;
    const size = feed.waiting.reduce((sum, bytes) => sum + bytes.length, 0);
    const all = new Uint8Array(size);
    let at = 0;
    for (const bytes of feed.waiting) {
      all.set(bytes, at);
      at += bytes.length;
    }
    feed.waiting = [];
    try {
      feed.buffer.appendBuffer(all);
    } catch (error) {
      this.fail(`what came cannot be kept: ${String(error)}`);
    }
  }

  /** Keeps playing near the end of what has come: a little faster when behind, over holes by a jump. */
  private steer(): void {
    const { video } = this;
    if (performance.now() - this.heardAt > SILENCE_MS && document.visibilityState === "visible") {
      return this.fail("nothing comes");
    }
    if (video.buffered.length === 0 || video.seeking) return;
    const last = video.buffered.length - 1;
    const [start, end] = [video.buffered.start(last), video.buffered.end(last)];
    if (video.currentTime < video.buffered.start(0)) video.currentTime = video.buffered.start(0);
    const isInHole = video.currentTime < start && !isBuffered(video);
    const behind = end - video.currentTime;
    if (isInHole) video.currentTime = Math.max(start, end - WISHED_LAG);
    else if (behind > JUMP_LAG && !video.paused) video.currentTime = end - WISHED_LAG;
    else if (behind > FAST_LAG * 2) video.playbackRate = FASTER;
    else if (behind > FAST_LAG) video.playbackRate = FAST;
    else if (behind <= WISHED_LAG + 0.05) video.playbackRate = 1;
  }

  chooseSound(place: number): void {
    if (this.sound === place) return;
    this.sound = place;
    const old = this.socket;
    this.feeds.clear();
    this.connect();
    old?.close();
  }

  toLive(): void {
    const { buffered } = this.video;
    if (buffered.length > 0) this.video.currentTime = buffered.end(buffered.length - 1) - WISHED_LAG;
    void this.video.play().catch(() => undefined);
  }

  behind(): number | null {
    const { buffered, currentTime } = this.video;
    return buffered.length > 0 ? Math.max(0, buffered.end(buffered.length - 1) - currentTime) : null;
  }

  bitrate(): number | null {
    return this.rate;
  }

  private fail(reason: string): void {
    if (this.stopped) return;
    this.stop();
    this.events.onFailed(reason);
  }

  private closeSource(): void {
    this.feeds.clear();
    this.source = null;
    if (this.url) URL.revokeObjectURL(this.url);
    this.url = "";
  }

  stop(): void {
    this.stopped = true;
    clearInterval(this.steering);
    this.socket?.close();
    this.socket = null;
    this.closeSource();
    this.video.playbackRate = 1;
  }
}

function isBuffered(video: HTMLVideoElement): boolean {
  const { buffered, currentTime } = video;
  for (let at = 0; at < buffered.length; at++) {
    if (buffered.start(at) <= currentTime + 0.05 && currentTime < buffered.end(at)) return true;
  }
  return false;
}
