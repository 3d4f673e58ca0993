/** The page's parts. There is so little on it that it needs no framework. */

export interface Parts {
  page: HTMLElement;
  title: HTMLElement;
  live: HTMLElement;
  video: HTMLVideoElement;
  saying: HTMLElement;
  mute: HTMLButtonElement;
  volume: HTMLInputElement;
  play: HTMLButtonElement;
  toLive: HTMLButtonElement;
  backLabel: HTMLElement;
  back: HTMLInputElement;
  delay: HTMLElement;
  sounds: HTMLSelectElement;
  remote: HTMLButtonElement;
  inset: HTMLButtonElement;
  full: HTMLButtonElement;
  about: HTMLDetailsElement;
  figures: HTMLElement;
}

const MARKUP = `
  <div class="mx-auto flex min-h-dvh max-w-6xl flex-col gap-3 p-3 sm:p-6" data-part="frame">
    <header class="flex flex-wrap items-baseline gap-x-3 gap-y-1">
      <h1 class="min-w-0 text-xl font-semibold break-words sm:text-2xl" data-part="title"></h1>
      <span class="badge badge-error hidden" data-part="live">live</span>
    </header>
    <div class="flex min-h-0 flex-col gap-3" data-part="beside">
    <div class="flex min-h-0 min-w-0 grow flex-col gap-3" data-part="player">
    <div class="relative aspect-video w-full overflow-hidden rounded-box bg-black" data-part="stage">
      <video class="h-full w-full" playsinline muted data-part="video" aria-label="The show"></video>
      <p class="absolute inset-x-0 bottom-0 bg-black/70 p-4 text-center text-white empty:hidden" role="status" data-part="saying"></p>
    </div>
    <label class="hidden items-center gap-2" data-part="backLabel">
      <span class="sr-only">Go back</span>
      <input class="range range-xs grow" type="range" step="1" value="0" data-part="back" />
    </label>
    <div class="flex flex-wrap items-center gap-2" role="group" aria-label="Player">
      <button class="btn btn-sm" data-part="play">Pause</button>
      <button class="btn btn-sm btn-primary" data-part="mute">Sound on</button>
      <label class="flex items-center gap-2">
        <span class="sr-only">Volume</span>
        <input class="range range-xs w-24" type="range" min="0" max="1" step="0.05" value="1" data-part="volume" />
      </label>
      <label class="hidden items-center gap-2" data-part="soundsLabel">
        <span class="text-sm">Sound</span>
        <select class="select select-sm" data-part="sounds"></select>
      </label>
      <button class="btn btn-sm" data-part="toLive">To live</button>
      <span class="text-sm opacity-80" data-part="delay"></span>
      <span class="grow"></span>
      <button class="btn btn-sm" data-part="remote" hidden>On a television</button>
      <button class="btn btn-sm" data-part="inset">Small window</button>
      <button class="btn btn-sm" data-part="full">Full screen</button>
    </div>
    <div class="space-y-2 empty:hidden" data-part="marks"></div>
    </div>
    <aside data-part="slot"></aside>
    </div>
    <section class="space-y-3" data-part="said">
      <div class="said" data-part="text"></div>
      <ul class="flex flex-wrap gap-2 empty:hidden" data-part="tags"></ul>
      <ul class="flex flex-wrap gap-x-5 gap-y-1 empty:hidden" data-part="links"></ul>
    </section>
    <details class="text-sm" data-part="about">
      <summary class="w-fit cursor-pointer opacity-80">About this stream</summary>
      <dl class="mt-2 grid max-w-md grid-cols-[auto_1fr] gap-x-4 gap-y-1" data-part="figures"></dl>
    </details>
  </div>`;

export function view(page: HTMLElement): Parts {
  page.innerHTML = MARKUP;
  page.dataset.state = "before";
  const part = <T extends HTMLElement>(name: string) => {
    const found = page.querySelector<T>(`[data-part="${name}"]`);
    if (!found) throw new Error(`the page has no ${name}`);
    return found;
  };
  return {
    page,
    title: part("title"),
    live: part("live"),
    video: part<HTMLVideoElement>("video"),
    saying: part("saying"),
    mute: part<HTMLButtonElement>("mute"),
    volume: part<HTMLInputElement>("volume"),
    play: part<HTMLButtonElement>("play"),
    toLive: part<HTMLButtonElement>("toLive"),
    backLabel: part("backLabel"),
    back: part<HTMLInputElement>("back"),
    delay: part("delay"),
    sounds: part<HTMLSelectElement>("sounds"),
    remote: part<HTMLButtonElement>("remote"),
    inset: part<HTMLButtonElement>("inset"),
    full: part<HTMLButtonElement>("full"),
    about: part<HTMLDetailsElement>("about"),
    figures: part("figures"),
  };
}
