import { Player, WAY_NAMES, type Sound, type Way } from "../src/player/player";
import "./style.css";
import { type About, countdown, showAbout } from "./about";
import { Controls } from "./controls";
import { Recording } from "./recording";
import { offerRemote } from "./remote";
import { view } from "./view";

interface State {
  title: string;
  state: "off_air" | "on_air" | "holding";
  /** The way to begin with; none where browsers cannot watch. */
  way: Way | null;
  ways: Way[];
  session: number | null;
  /** How far back one can go, in seconds. */
  back_s: number;
  has_seat: boolean;
  /** The playlist of the same show in object storage, for who finds no seat here. */
  published: string | null;
  has_recording: boolean;
}

/** How often it is asked whether a show begins, holds or ends. */
const ASK_MS = 2_500;

/** The same for what the page says, which changes seldom. */
const ASK_ABOUT_MS = 60_000;

const isEmbed = document.querySelector("#page")?.getAttribute("data-kind") === "embed";
const base = `${location.origin}${location.pathname.replace(/\/$/, "").replace(isEmbed ? /\/embed$/ : "", "")}`;
const wishes = new URLSearchParams(location.search);
const parts = view(document.querySelector("#page") ?? document.body);
const controls = new Controls(parts, {
  onSound: (place) => player?.chooseSound(place),
  onLive: () => (player ? player.toLive() : startByHand()),
  onBack: (seconds) => player?.goBack(seconds),
  canPause: () => player?.canPause() ?? false,
  figures: () => player?.figures() ?? null,
});

offerRemote(
  parts.video,
  parts.remote,
  () => {
    player?.stop();
    player = null;
    isRemote = true;
    return `${base}/live/index.m3u8`;
  },
  () => {
    isRemote = false;
    void ask();
  },
);

const recording = new Recording(parts.page, parts.video, base);
let player: Player | null = null;
let session: number | null = null;
let wasOn = false;
/** Whether a television plays instead of this page. */
let isRemote = false;
/** Whether the show comes from object storage, since the house had no seat. */
let fromDepot = false;
let about: About | null = null;
/** Whether the house answered, and said that there is no show. */
let isOffAir = false;
/** The page that carries the player may want it to wait for a click. */
let waits = wishes.get("start") === "by-hand";

if (wishes.get("sound") === "on") playWithSound(parts.video);

/** Plays with sound where the browser lets a page do so by itself, and without it elsewhere. */
function playWithSound(video: HTMLVideoElement): void {
  const play = video.play.bind(video);
  video.muted = false;
  video.play = () =>
    play().catch((error: unknown) => {
      if (video.muted || !(error instanceof DOMException && error.name === "NotAllowedError")) throw error;
      video.muted = true;
      return play();
    });
}

function startByHand(): void {
  waits = false;
  void ask();
}

/** The way can be chosen in the address. */
function wantedWay(ways: Way[]): Way | null {
  return ways.find((way) => way === wishes.get("way")) ?? null;
}

/** Plays from the house, or from the depot where the house has no seat. */
function begin(state: State, way: Way, depot: string | null): void {
  const wanted = depot ? "plain" : wantedWay(state.ways);
  fromDepot = depot !== null;
  session = state.session;
  wasOn = true;
  const addresses = { pictures: `${base.replace(/^http/, "ws")}/pictures`, playlist: depot ?? `${base}/live/index.m3u8` };
  const events = {
    onWay: (way: Way) => controls.showWay(WAY_NAMES[way]),
    onSounds: (sounds: Sound[], chosen: number) => controls.showSounds(sounds, chosen),
    onOver: () => void ask(),
  };
  player = new Player(parts.video, addresses, events, wanted ?? way, wanted === null && state.ways.includes("near"));
  parts.page.dataset.state = "on";
}

function end(): void {
  player?.stop();
  player = null;
  session = null;
  parts.video.removeAttribute("src");
  parts.video.load();
  parts.page.dataset.state = wasOn ? "over" : "before";
}

/** Before and after the show: what is to come. */
function sayWhen(): void {
  if (parts.page.dataset.state !== "before" && parts.page.dataset.state !== "over") return;
  const left = countdown(about?.starts_at ?? null, Date.now());
  if (left) controls.say(`${wasOn ? "The show is over. The next one begins" : "The show begins"} in ${left}.`);
  else controls.say(wasOn ? "The show is over." : "Not on air yet. The show begins here by itself.");
}

async function askAbout(): Promise<void> {
  try {
    const answer = await fetch(`${base}/about`);
    if (!answer.ok) return;
    about = (await answer.json()) as About;
    showAbout(parts.page, base, about);
  } catch {
    // What it says is no reason not to play.
  }
}

async function ask(): Promise<void> {
  let state: State;
  try {
    const answer = await fetch(`${base}/state`);
    if (answer.status === 404 || answer.status === 410 || answer.status === 403) {
      end();
      controls.say(answer.status === 410 ? "This link has ended." : "This is not open any more.");
      return;
    }
    state = (await answer.json()) as State;
  } catch {
    isOffAir = false;
    controls.say("The house cannot be reached. This page tries again by itself.");
    return;
  }
  isOffAir = state.state === "off_air";
  document.title = state.title;
  controls.showTitle(state.title);
  controls.showBack(state.back_s);
  if (state.state === "off_air") {
    if (player) end();
    if (state.has_recording && (await recording.show())) {
      parts.page.dataset.state = "recording";
      controls.say("");
      return;
    }
    parts.page.dataset.state = wasOn ? "over" : "before";
    sayWhen();
    return;
  }
  if (player && session !== state.session) end();
  if (isRemote) return;
  if (!player && waits) {
    parts.page.dataset.state = "waiting";
    if (!parts.video.poster) parts.video.poster = `${base}/still.jpg?width=1280`;
    controls.say("");
    return;
  }
  const depot = state.has_seat ? null : state.published;
  if (player && depot && !fromDepot) end();
  if (!player && !state.has_seat && !depot) {
    controls.say("All seats are taken. This page tries again by itself.");
    return;
  }
  if (!player) {
    recording.hide();
    const way = state.way ?? (depot ? "plain" : null);
    if (!way) {
      controls.say("This show is watched with a player program, and not in a browser.");
      return;
    }
    begin(state, way, depot);
  }
  controls.say(state.state === "holding" ? "The picture is interrupted. It comes back by itself." : "");
}

void askAbout();
void ask();
setInterval(() => void ask(), ASK_MS);
setInterval(() => void askAbout(), ASK_ABOUT_MS);
setInterval(() => {
  if (about?.starts_at && isOffAir) sayWhen();
}, 1000);
