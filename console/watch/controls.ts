import { WAY_NAMES, type Figures, type Sound } from "../src/player/player";
import type { Parts } from "./view";

const LOOK_MS = 500;

/** Further behind, the page says how to come to live. */
const LATE_S = 15;

interface Choices {
  onSound(place: number): void;
  onLive(): void;
  figures(): Figures | null;
}

/** Buttons, keys and figures under the picture. */
export class Controls {
  constructor(
    private readonly parts: Parts,
    private readonly choices: Choices,
  ) {
    const { video, mute, volume, play, toLive, sounds, inset, full } = parts;
    video.muted = true;
    mute.addEventListener("click", () => this.toggleSound());
    volume.addEventListener("input", () => {
      video.volume = Number(volume.value);
      video.muted = video.volume === 0;
    });
    play.addEventListener("click", () => this.togglePlay());
    toLive.addEventListener("click", () => choices.onLive());
    sounds.addEventListener("change", () => choices.onSound(Number(sounds.value)));
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
    if (video.paused) this.choices.onLive();
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
    live.classList.toggle("hidden", !isOn || video.paused);
    const found = isOn ? this.choices.figures() : null;
    const behind = found?.behind ?? null;
    delay.textContent =
      behind === null ? "" : behind > LATE_S ? `${Math.round(behind)} s behind` : `${behind.toFixed(1)} s behind`;
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
