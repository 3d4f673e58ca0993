import { WAY_NAMES, type Figures, type Sound } from "../src/player/player";
import type { Parts } from "./view";

const LOOK_MS = 500;

/** How far a key goes back, in seconds. */
const STEP_S = 10;

/** Further behind, tenths of seconds say nothing. */
const LATE_S = 15;

/** With less than this to go back, there is no slider. */
const LEAST_BACK_S = 60;

/** Nearer to now than this, now is meant. */
const NOW_S = 4;

export function toldBehind(seconds: number): string {
  if (seconds <= LATE_S) return `${seconds.toFixed(1)} s behind`;
  const whole = Math.round(seconds);
  const [hours, minutes] = [Math.floor(whole / 3600), Math.floor(whole / 60) % 60];
  if (hours > 0) return `${hours} h ${minutes} min behind`;
  return minutes > 0 ? `${minutes} min ${whole % 60} s behind` : `${whole} s behind`;
}

interface Choices {
  onSound(place: number): void;
  onLive(): void;
  /** Plays on from so many seconds before now. */
  onBack(seconds: number): void;
  /** Whether it can be paused and played on from there. */
  canPause(): boolean;
  figures(): Figures | null;
}

/** Buttons, keys and figures under the picture. */
export class Controls {
  constructor(
    private readonly parts: Parts,
    private readonly choices: Choices,
  ) {
    const { video, mute, volume, play, toLive, sounds, back, inset, full } = parts;
    video.muted = true;
    mute.addEventListener("click", () => this.toggleSound());
    volume.addEventListener("input", () => {
      video.volume = Number(volume.value);
      video.muted = video.volume === 0;
    });
    play.addEventListener("click", () => this.togglePlay());
    toLive.addEventListener("click", () => choices.onLive());
    sounds.addEventListener("change", () => choices.onSound(Number(sounds.value)));
    back.addEventListener("input", () => (this.isChoosing = true));
    back.addEventListener("change", () => this.goBack());
    inset.hidden = !document.pictureInPictureEnabled;
    inset.addEventListener("click", () => void this.toggleInset());
    full.hidden = !document.fullscreenEnabled;
    full.addEventListener("click", () => void this.toggleFull());
    video.addEventListener("volumechange", () => this.look());
    video.addEventListener("play", () => this.look());
    video.addEventListener("pause", () => this.look());
    document.addEventListener("keydown", (event) => this.key(event));
    setInterval(() => this.look(), LOOK_MS);
  }

  /** Somebody moves the slider: it is not moved from here. */
  private isChoosing = false;
  private most = 0;

  private goBack(): void {
    this.isChoosing = false;
    const seconds = -Number(this.parts.back.value);
    if (seconds < NOW_S) this.choices.onLive();
    else this.choices.onBack(seconds);
  }

  /** How far back one can go, in seconds. */
  showBack(seconds: number): void {
    this.most = seconds;
    this.parts.back.min = String(-seconds);
    this.parts.back.max = "0";
  }

  private lookBack(behind: number | null): void {
    const { back, backLabel } = this.parts;
    const isShown = this.most >= LEAST_BACK_S && behind !== null;
    backLabel.classList.toggle("hidden", !isShown);
    backLabel.classList.toggle("flex", isShown);
    if (!isShown || this.isChoosing) return;
    back.value = String(-Math.round(behind));
    back.setAttribute("aria-valuetext", toldBehind(behind));
  }

  private toggleSound(): void {
    const { video, volume } = this.parts;
    video.muted = !video.muted;
    if (!video.muted && video.volume === 0) {
      video.volume = 1;
      volume.value = "1";
    }
  }

  private togglePlay(): void {
    const { video } = this.parts;
    if (video.paused && this.choices.canPause()) void video.play().catch(() => undefined);
    else if (video.paused) this.choices.onLive();
    else video.pause();
  }

  private async toggleInset(): Promise<void> {
    try {
      if (document.pictureInPictureElement) await document.exitPictureInPicture();
      else await this.parts.video.requestPictureInPicture();
    } catch {
      this.parts.inset.hidden = true;
    }
  }

  private async toggleFull(): Promise<void> {
    if (document.fullscreenElement) await document.exitFullscreen();
    else await this.parts.video.parentElement?.requestFullscreen();
  }

  private key(event: KeyboardEvent): void {
    const isField = event.target instanceof Element && event.target.closest("button, select, input, summary");
    if (event.ctrlKey || event.altKey || event.metaKey || (isField && event.key === " ")) return;
    if (event.key === " ") {
      event.preventDefault();
      this.togglePlay();
    } else if (event.key === "m") this.toggleSound();
    else if (event.key === "f") void this.toggleFull();
    else if (event.key === "l") this.choices.onLive();
    else if (event.key === "j") this.step(STEP_S);
  }

  /** Goes further back by so many seconds. */
  private step(seconds: number): void {
    const behind = this.choices.figures()?.behind ?? null;
    if (behind !== null && this.most >= LEAST_BACK_S) this.choices.onBack(Math.min(this.most, behind + seconds));
  }

  say(text: string): void {
    if (this.parts.saying.textContent !== text) this.parts.saying.textContent = text;
  }

  showTitle(title: string): void {
    this.parts.title.textContent = title;
  }

  showWay(way: string): void {
    this.parts.page.dataset.way = way;
  }

  showSounds(sounds: Sound[], chosen: number): void {
    const { sounds: select, page } = this.parts;
    const label = page.querySelector<HTMLElement>('[data-part="soundsLabel"]');
    label?.classList.toggle("hidden", sounds.length < 2);
    label?.classList.toggle("flex", sounds.length >= 2);
    select.replaceChildren(...sounds.map(({ place, label }) => new Option(label, String(place), false, place === chosen)));
  }

  private look(): void {
    const { video, mute, play, delay, live, page, about, figures } = this.parts;
    const isOn = page.dataset.state === "on";
    mute.textContent = video.muted ? "Sound on" : "Sound off";
    play.textContent = video.paused || page.dataset.state === "waiting" ? "Play" : "Pause";
    const found = isOn ? this.choices.figures() : null;
    const behind = found?.behind ?? null;
    live.classList.toggle("hidden", !isOn || video.paused || (behind ?? 0) > LATE_S);
    delay.textContent = behind === null ? "" : toldBehind(behind);
    this.lookBack(behind);
    if (!about.open) return;
    const rows: [string, string][] = found
      ? [
          ["way", WAY_NAMES[found.way]],
          ["behind", behind === null ? "-" : `${behind.toFixed(2)} s`],
          ["buffered", `${found.buffered.toFixed(2)} s`],
          ["pictures dropped", String(found.droppedFrames)],
          ["bitrate", found.bitrate === null ? "-" : `${(found.bitrate / 1e6).toFixed(2)} Mbit/s`],
          ["picture", `${video.videoWidth} × ${video.videoHeight}`],
        ]
      : [["state", "nothing is played"]];
    figures.replaceChildren(
      ...rows.flatMap(([name, value]) => {
        const [term, text] = [document.createElement("dt"), document.createElement("dd")];
        [term.textContent, text.textContent] = [name, value];
        term.className = "opacity-80";
        return [term, text];
      }),
    );
  }
}
