/** What can be watched after the show. */

interface Told {
  title: string;
  started_at: string;
  duration_ms: number;
  marks: { at_ms: number; title: string }[];
}

/** A recording is asked for anew after so long while there is none. */
const PAUSE_MS = 20_000;

/** The recording in the player, with its marks below. */
export class Recording {
  private isShown = false;
  private askedAt = -Infinity;

  constructor(
    private readonly page: HTMLElement,
    private readonly video: HTMLVideoElement,
    private readonly base: string,
  ) {}

  /** Shows it if there is one; true if it is shown. */
  async show(): Promise<boolean> {
    if (this.isShown || performance.now() - this.askedAt < PAUSE_MS) return this.isShown;
    this.askedAt = performance.now();
    const answer = await fetch(`${this.base}/recording`);
    if (!answer.ok) return false;
    const told = (await answer.json()) as Told;
    this.isShown = true;
    this.video.src = `${this.base}/recording.mp4`;
    this.video.controls = true;
    this.video.muted = false;
    this.marks(told);
    return true;
  }

  hide(): void {
    if (!this.isShown) return;
    this.isShown = false;
    this.video.controls = false;
    this.video.muted = true;
    this.video.removeAttribute("src");
    this.part()?.replaceChildren();
  }

  private part(): HTMLElement | null {
    return this.page.querySelector<HTMLElement>('[data-part="marks"]');
  }

  private marks(told: Told): void {
    const when = document.createElement("p");
    when.className = "text-sm opacity-80";
    when.textContent = `${told.title}, recorded ${new Date(told.started_at).toLocaleString([], { dateStyle: "medium", timeStyle: "short" })}`;
    const list = document.createElement("ul");
    list.className = "flex flex-wrap gap-2 empty:hidden";
    list.append(
      ...told.marks.map(({ at_ms, title }) => {
        const [item, button] = [document.createElement("li"), document.createElement("button")];
        button.className = "btn btn-sm";
        button.textContent = `${clock(at_ms)} ${title}`;
        button.addEventListener("click", () => {
          this.video.currentTime = at_ms / 1000;
          void this.video.play().catch(() => undefined);
        });
        item.append(button);
        return item;
      }),
    );
    this.part()?.replaceChildren(when, list);
  }
}

/** Minutes and seconds, and hours where there are some. */
export function clock(milliseconds: number): string {
  const seconds = Math.floor(milliseconds / 1000);
  const two = (value: number) => String(value).padStart(2, "0");
  const [hours, minutes] = [Math.floor(seconds / 3600), Math.floor(seconds / 60) % 60];
  return hours > 0 ? `${hours}:${two(minutes)}:${two(seconds % 60)}` : `${minutes}:${two(seconds % 60)}`;
}
