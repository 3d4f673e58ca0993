import "./style.css";

interface Listed {
  name: string;
  title: string;
  is_on_air: boolean;
  starts_at: string | null;
  has_poster: boolean;
}

/** How often the list is asked for anew. */
const ASK_MS = 15_000;

const list = document.querySelector<HTMLElement>("#channels");
const saying = document.querySelector<HTMLElement>("#saying");

function when(channel: Listed): string {
  if (channel.is_on_air) return "on air";
  if (!channel.starts_at) return "off air";
  return `begins ${new Date(channel.starts_at).toLocaleString([], { dateStyle: "medium", timeStyle: "short" })}`;
}

function card(channel: Listed): HTMLElement {
  const item = document.createElement("li");
  const link = document.createElement("a");
  link.href = `/watch/${channel.name}`;
  link.className = "block overflow-hidden rounded-box border border-base-300 hover:underline";
  const picture = document.createElement("div");
  picture.className = "aspect-video bg-neutral";
  if (channel.is_on_air || channel.has_poster) {
    const image = document.createElement("img");
    image.className = "h-full w-full object-cover";
    image.alt = "";
    image.src = `/watch/${channel.name}/${channel.is_on_air ? "still.jpg?width=640" : "poster"}`;
    image.addEventListener("error", () => image.remove());
    picture.append(image);
  }
  const text = document.createElement("div");
  text.className = "flex items-baseline justify-between gap-3 p-3";
  const [title, state] = [document.createElement("span"), document.createElement("span")];
  title.className = "min-w-0 font-medium break-words";
  title.textContent = channel.title;
  state.className = channel.is_on_air ? "badge badge-error shrink-0" : "shrink-0 text-sm opacity-80";
  state.textContent = when(channel);
  text.append(title, state);
  link.append(picture, text);
  item.append(link);
  return item;
}

async function ask(): Promise<void> {
  try {
    const answer = await fetch("/watch-list");
    const { channels } = answer.ok ? ((await answer.json()) as { channels: Listed[] }) : { channels: [] };
    list?.replaceChildren(...channels.map(card));
    if (saying) saying.textContent = channels.length === 0 ? "There is nothing to watch now." : "";
  } catch {
    if (saying) saying.textContent = "The house cannot be reached. This page tries again by itself.";
  }
}

void ask();
setInterval(() => void ask(), ASK_MS);
