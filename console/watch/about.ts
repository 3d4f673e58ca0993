/** What the page says besides the show. */

export interface About {
  title: string;
  /** HTML, cleaned by the house. */
  description: string;
  tags: string[];
  links: { label: string; address: string }[];
  starts_at: string | null;
  accent: string | null;
  has_style: boolean;
  has_poster: boolean;
  slot: string | null;
}

/** Fills the page's part about the show, and gives it the house's colours. */
export function showAbout(page: HTMLElement, base: string, about: About): void {
  const part = (name: string) => page.querySelector<HTMLElement>(`[data-part="${name}"]`);
  const text = part("text");
  if (text) text.innerHTML = about.description;
  part("tags")?.replaceChildren(
    ...about.tags.map((tag) => {
      const badge = document.createElement("li");
      badge.className = "badge badge-outline";
      badge.textContent = tag;
      return badge;
    }),
  );
  part("links")?.replaceChildren(
    ...about.links.map(({ label, address }) => {
      const [item, link] = [document.createElement("li"), document.createElement("a")];
      link.className = "link";
      link.href = address;
      link.rel = "noopener noreferrer";
      link.target = "_blank";
      link.textContent = label;
      item.append(link);
      return item;
    }),
  );
  const video = page.querySelector("video");
  if (video && about.has_poster) video.poster = `${base}/poster`;
  if (about.accent) colour(about.accent);
  if (about.has_style && !document.querySelector("#house-style")) {
    const sheet = document.createElement("link");
    [sheet.id, sheet.rel, sheet.href] = ["house-style", "stylesheet", `${base}/style.css`];
    document.head.append(sheet);
  }
  const slot = part("slot");
  if (slot && about.slot && !slot.querySelector("iframe")) slot.append(frame(about.slot, about.title));
  page.toggleAttribute("data-slot", Boolean(about.slot));
}

/** Black or white, whichever can be read on it. */
function colour(accent: string): void {
  const [red = 0, green = 0, blue = 0] = [1, 3, 5].map((at) => {
    const share = parseInt(accent.slice(at, at + 2), 16) / 255;
    return share <= 0.03928 ? share / 12.92 : ((share + 0.055) / 1.055) ** 2.4;
  });
  const isLight = 0.2126 * red + 0.7152 * green + 0.0722 * blue > 0.179;
  document.documentElement.style.setProperty("--color-primary", accent);
  document.documentElement.style.setProperty("--color-primary-content", isLight ? "#000" : "#fff");
}

function frame(address: string, title: string): HTMLIFrameElement {
  const element = document.createElement("iframe");
  element.title = `Beside ${title}`;
  element.className = "h-full min-h-96 w-full rounded-box border border-base-300";
  element.referrerPolicy = "no-referrer";
  // Its own cookies are its own; a page of ours would get out of its frame with them.
  const isForeign = new URL(address).origin !== location.origin;
  element.setAttribute("sandbox", `allow-scripts allow-forms allow-popups${isForeign ? " allow-same-origin" : ""}`);
  element.src = address;
  return element;
}

/** How long until a time, as people say it; nothing once it is over. */
export function countdown(startsAt: string | null, now: number): string {
  const left = startsAt ? Math.ceil((Date.parse(startsAt) - now) / 1000) : 0;
  if (left <= 0) return "";
  const [days, hours, minutes, seconds] = [Math.floor(left / 86_400), Math.floor(left / 3600) % 24, Math.floor(left / 60) % 60, left % 60];
  if (days > 0) return `${days} d ${hours} h`;
  if (hours > 0) return `${hours} h ${minutes} min`;
  return minutes > 0 ? `${minutes} min ${seconds} s` : `${seconds} s`;
}
