import { readFileSync } from "node:fs";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";

import type { Browser, Page } from "playwright-core";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { launch } from "./browser";
import { CLIP, PASSWORD, Show, SMALL_CLIP } from "./show";
import { Storage } from "./storage";

/** Pictures per second of the clip, and how many it has before it begins anew. */
const RATE = 30;

/** The most that each way may be behind the encoder, in seconds: twice what it is on an idle machine. */
const LIMITS = { pictures: 2, near: 4, plain: 12 };

/** Where the running clock is in the picture, and how small it is looked at. */
const CLOCK = { x: 980, y: 610, width: 200, height: 40, columns: 100, rows: 20 };

type Signature = number[];
interface Seen {
  at: number;
  signature: Signature;
}

let show: Show;
let browser: Browser;
let clock: Signature[];

/** The running clock of each picture of the clip, read off the clip itself. */
async function readClip(page: Page): Promise<Signature[]> {
  const origin = "http://clip.invalid";
  await page.route(`${origin}/**`, (route) =>
    route.request().url().endsWith(".mp4")
      ? route.fulfill({ body: readFileSync(CLIP), contentType: "video/mp4" })
      : route.fulfill({ body: "<video muted></video>", contentType: "text/html" }),
  );
  await page.goto(`${origin}/`);
  return page.evaluate(
    async ({ rate, area }) => {
      const video = document.querySelector("video") as HTMLVideoElement;
      video.src = URL.createObjectURL(await (await fetch("/clip.mp4")).blob());
      await new Promise((resolve) => video.addEventListener("loadeddata", resolve, { once: true }));
      const canvas = new OffscreenCanvas(area.columns, area.rows);
      const context = canvas.getContext("2d", { willReadFrequently: true }) as OffscreenCanvasRenderingContext2D;
      const found: number[][] = [];
      for (let number = 0; (number + 0.5) / rate < video.duration; number++) {
        const seeked = new Promise((resolve) => video.addEventListener("seeked", resolve, { once: true }));
        video.currentTime = (number + 0.5) / rate;
        await seeked;
        context.drawImage(video, area.x, area.y, area.width, area.height, 0, 0, area.columns, area.rows);
        const { data } = context.getImageData(0, 0, area.columns, area.rows);
        found.push(Array.from({ length: area.columns * area.rows }, (_, at) => data[at * 4] ?? 0));
      }
      return found;
    },
    { rate: RATE, area: CLOCK },
  );
}

/** Waits until so many different pictures of the clip were shown: a machine that has much to do shows them late. */
async function moves(page: Page, most: number): Promise<void> {
  const shown = new Set<number>();
  for (let tries = 0; tries < 8 && shown.size <= most; tries++) {
    for (const { signature } of await look(page, 2)) shown.add(numberOf(signature));
  }
  expect(shown.size).toBeGreaterThan(most);
}

/** The pictures that are shown in some seconds, with the time at which each was. */
function look(page: Page, seconds: number): Promise<Seen[]> {
  return page.evaluate(
    ({ seconds, area }) =>
      new Promise<Seen[]>((resolve) => {
        const video = document.querySelector("video") as HTMLVideoElement;
        const canvas = new OffscreenCanvas(area.columns, area.rows);
        const context = canvas.getContext("2d", { willReadFrequently: true }) as OffscreenCanvasRenderingContext2D;
        const seen: Seen[] = [];
        const until = Date.now() + seconds * 1000;
        const step = () => {
          context.drawImage(video, area.x, area.y, area.width, area.height, 0, 0, area.columns, area.rows);
          const { data } = context.getImageData(0, 0, area.columns, area.rows);
          const signature = Array.from({ length: area.columns * area.rows }, (_, at) => data[at * 4] ?? 0);
          seen.push({ at: Date.now(), signature });
          if (Date.now() < until) video.requestVideoFrameCallback(step);
        };
        video.requestVideoFrameCallback(step);
        setTimeout(() => resolve(seen), seconds * 1000 + 500);
      }),
    { seconds, area: CLOCK },
  );
}

/** Which picture of the clip it is. */
function numberOf(signature: Signature): number {
  let [best, least] = [0, Infinity];
  clock.forEach((known, number) => {
    let far = 0;
    for (let at = 0; at < known.length && far < least; at++) far += Math.abs((known[at] ?? 0) - (signature[at] ?? 0));
    if (far < least) [best, least] = [number, far];
  });
  return best;
}

function median(values: number[]): number {
  return values.toSorted((a, b) => a - b)[Math.floor(values.length / 2)] ?? Infinity;
}

/** How far the pictures are behind the encoder, which began at `began`; the clip is longer than any delay here. */
function delayOf(seen: Seen[], began: number): number {
  const behind = seen.map(({ at, signature }) => {
    const sent = Math.floor(((at - began) / 1000) * RATE);
    return (((sent - numberOf(signature)) % clock.length) + clock.length) % clock.length;
  });
  return median(behind) / RATE;
}

async function watchPage(query: string): Promise<Page> {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  await page.goto(`${show.viewing}/watch/finish-line${query}`);
  await page.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 20_000 });
  return page;
}

function playedTo(page: Page): Promise<number> {
  return page.evaluate(() => document.querySelector("video")?.currentTime ?? 0);
}

interface Live {
  channels: { session: { started_at: string } | null }[];
}

function began(): number {
  const live = JSON.parse(show.cli(["live", "show", "--json"])) as Live;
  return Date.parse(live.channels[0]?.session?.started_at ?? "");
}

describe("the page for viewers", () => {
  let key = "";

  beforeAll(async () => {
    show = new Show();
    await show.open();
    browser = await launch();
    const page = await browser.newPage();
    clock = await readClip(page);
    await page.close();
    show.signIn();
    const channel = ["channel", "add", "finish-line", "--title", "Finish line", "--audience", "everybody", "--hold", "20"];
    show.cli(channel);
    key = show.key("finish-line", "van");
  });

  afterAll(async () => {
    await browser?.close();
    await show?.stop();
  });

  it("the clip's clock tells its pictures apart", () => {
    expect(clock.length).toBeGreaterThan(100);
    expect(clock.filter((signature, number) => numberOf(signature) !== number).length).toBeLessThan(3);
  });

  it("an open page waits for the show and begins by itself, and each way shows it in time, with sound", async () => {
    const early = await browser.newPage();
    await early.goto(`${show.viewing}/watch/finish-line`);
    await early.getByText("The show begins here by itself").waitFor();
    const encoder = show.startEncoder(key, 80);
    await early.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 20_000 });
    await early.close();
    const start = began();
    for (const way of ["pictures", "near", "plain"] as const) {
      const page = await watchPage(`?way=${way}`);
      await page.waitForTimeout(way === "pictures" ? 7000 : 4000);
      const seen = await look(page, 3);
      const numbers = seen.map(({ signature }) => numberOf(signature));
      expect(new Set(numbers).size, `${way}: ${numbers.join(" ")}`).toBeGreaterThan(30);
      const delay = delayOf(seen, start);
      console.info(`${way}: ${delay.toFixed(2)} s behind the encoder`);
      expect(delay, way).toBeLessThan(LIMITS[way]);
      await page.getByRole("button", { name: "Sound on" }).click();
      const loudness = await page.evaluate(async () => {
        const context = new AudioContext();
        const analyser = context.createAnalyser();
        context.createMediaElementSource(document.querySelector("video") as HTMLVideoElement).connect(analyser);
        const samples = new Float32Array(analyser.fftSize);
        let most = 0;
        for (let tries = 0; tries < 30; tries++) {
          await new Promise((resolve) => setTimeout(resolve, 100));
          analyser.getFloatTimeDomainData(samples);
          most = Math.max(most, ...samples.map(Math.abs));
        }
        return most;
      });
      expect(loudness, way).toBeGreaterThan(0.01);
      await page.close();
    }
    encoder.kill("SIGTERM");
  });

  it("the engineer sees a channel that is closed to all others, and how loud it is", async () => {
    show.cli(["channel", "add", "boathouse", "--title", "Boathouse"]);
    const encoder = show.startEncoder(show.key("boathouse", "camera"), 40);
    const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    await page.goto(show.url);
    await page.getByLabel("User name").fill("harbour");
    await page.getByLabel("Password").fill(PASSWORD);
    await page.keyboard.press("Enter");
    await page.getByRole("heading", { level: 1 }).waitFor();
    // On the board: a still, and a click away the live picture.
    const still = page.getByRole("button", { name: "See the picture of Boathouse" });
    await still.waitFor();
    await page.waitForFunction(() => document.querySelector("button img") instanceof HTMLImageElement && (document.querySelector("button img") as HTMLImageElement).naturalWidth === 320);
    await still.click();
    await page.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 20_000 });
    await page.goto(`${show.url}/channels/boathouse`);
    await page.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 20_000 });
    await page.getByRole("img", { name: /Level: -\d+ dB/ }).waitFor();
    await moves(page, 20);
    const state = () => page.request.get(`${show.viewing}/watch/boathouse/state`);
    expect((await state()).status()).toBe(404);
    await page.getByLabel("Who may watch").selectOption("everybody");
    const address = await page.getByLabel("Page for people", { exact: true }).inputValue();
    expect([address, (await state()).status()]).toEqual([`${show.viewing}/watch/boathouse`, 200]);
    await page.close();
    encoder.kill("SIGTERM");
  });

  it("another sound can be chosen, by each way", async () => {
    show.cli(["channel", "add", "riverbank", "--title", "Riverbank", "--audience", "everybody"]);
    const encoder = show.startSounds(show.key("riverbank", "camera"), "en=Programme mix,en=Commentary,cy=Riverbank", 60);
    for (const way of ["pictures", "near"]) {
      const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
      const asked: string[] = [];
      page.on("request", (request) => asked.push(request.url()));
      page.on("websocket", (socket) => asked.push(socket.url()));
      await page.goto(`${show.viewing}/watch/riverbank?way=${way}`);
      const sounds = page.getByRole("combobox", { name: "Sound" });
      await sounds.waitFor({ timeout: 20_000 });
      expect(await sounds.locator("option").allTextContents()).toEqual([
        expect.stringContaining("Programme mix"),
        expect.stringContaining("Commentary"),
        expect.stringContaining("Riverbank"),
      ]);
      await page.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 20_000 });
      asked.length = 0;
      await sounds.selectOption({ index: 2 });
      await page.getByRole("button", { name: "Sound on" }).click();
      await page.waitForTimeout(3000);
      // Sounds have the odd numbers in the addresses of pieces.
      const isOther = way === "pictures" ? /pictures\?sound=3$/ : /\/5\/.*\.m4s$/;
      expect(asked.filter((address) => isOther.test(address)), `${way}: ${asked.slice(0, 8).join(" ")}`).not.toHaveLength(0);
      const before = await playedTo(page);
      await expect.poll(async () => (await playedTo(page)) - before, { timeout: 10_000, message: way }).toBeGreaterThan(1);
      await page.close();
    }
    encoder.kill("SIGTERM");
  });

  it("page and embed can be used by everybody: nothing serious is found, on a phone and by keyboard", async () => {
    show.cli(["channel", "add", "weir", "--title", "Weir", "--audience", "everybody"]);
    show.cli(["page", "change", "weir", "--tag", "rowing", "--link", "Results=https://www.wexcombe.example/", "--listed", "true"]);
    const encoder = show.startEncoder(show.key("weir", "camera"), 60);
    const page = await browser.newPage({ viewport: { width: 360, height: 740 } });
    for (const path of ["/watch/weir", "/watch/weir/embed", "/"]) {
      await page.goto(`${show.viewing}${path}`);
      if (path !== "/") {
        await page.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 20_000 });
      }
      expect(await page.evaluate(() => document.documentElement.scrollWidth), path).toBeLessThanOrEqual(360);
      await page.evaluate(readFileSync(new URL("../node_modules/axe-core/axe.min.js", import.meta.url), "utf8"));
      const serious = await page.evaluate(async () => {
        const { axe } = window as unknown as { axe: { run(): Promise<{ violations: { id: string; impact: string | null }[] }> } };
        const { violations } = await axe.run();
        return violations.filter(({ impact }) => impact === "serious" || impact === "critical").map(({ id }) => id);
      });
      expect(serious, path).toEqual([]);
    }
    await page.goto(`${show.viewing}/watch/weir/embed?start=by-hand`);
    const play = page.getByRole("button", { name: "Play" });
    await play.waitFor({ timeout: 20_000 });
    await page.keyboard.press("Tab");
    await page.keyboard.press("Enter");
    await page.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 20_000 });
    await page.keyboard.press("m");
    expect(await page.evaluate(() => document.querySelector("video")?.muted)).toBe(false);
    await page.close();
    encoder.kill("SIGTERM");
  });

  it("the player alone plays in a page of another site, if it may", async () => {
    const encoder = show.startEncoder(key, 40);
    const link = JSON.parse(show.cli(["link", "add", "finish-line", "site", "--site", "http://127.0.0.1:1", "--json"])) as {
      addresses: { embed: string };
    };
    const pages = createServer((request, response) => {
      const address = request.url === "/open" ? `${show.viewing}/watch/finish-line/embed` : link.addresses.embed;
      response.setHeader("content-type", "text/html").end(`<h1>Club</h1><iframe src="${address}" width="640" height="410"></iframe>`);
    });
    await new Promise<void>((resolve) => pages.listen(0, "127.0.0.1", resolve));
    const { port } = pages.address() as AddressInfo;
    const page = await browser.newPage();
    await page.goto(`http://127.0.0.1:${port}/open`);
    await page.frameLocator("iframe").getByRole("button", { name: "Pause" }).waitFor({ timeout: 20_000 });
    const frame = page.frames()[1];
    await frame?.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 20_000 });
    await page.goto(`http://127.0.0.1:${port}/bound`);
    await page.waitForTimeout(1500);
    expect(await page.frameLocator("iframe").getByRole("button", { name: "Pause" }).count()).toBe(0);
    pages.close();
    await page.close();
    encoder.kill("SIGTERM");
  });

  it("a viewer goes back, and comes to live again", async () => {
    show.cli(["channel", "add", "lock", "--title", "Lock", "--audience", "everybody", "--back", "100", "--segments", "always"]);
    const encoder = show.startEncoder(show.key("lock", "camera"), 80);
    const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    await page.goto(`${show.viewing}/watch/lock?way=pictures`);
    await page.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 20_000 });
    await page.waitForTimeout(32_000);
    const lock = (JSON.parse(show.cli(["live", "show", "--json"])) as { channels: { name: string; session: { started_at: string } | null }[] }).channels;
    const start = Date.parse(lock.find(({ name }) => name === "lock")?.session?.started_at ?? "");
    const length = clock.length / RATE;
    const back = page.getByRole("slider", { name: "Go back" });
    await back.fill("-24");
    await page.waitForTimeout(5000);
    await page.getByText(/^2\d s behind$/).waitFor();
    await moves(page, 20);
    const seen = await look(page, 2);
    const behind = (delayOf(seen, start) - (24 % length) + 1.5 * length) % length;
    expect(Math.abs(behind - length / 2), `${behind} of ${length}`).toBeLessThan(3.5);
    // What is past stays there while it is paused.
    await page.getByRole("button", { name: "Pause" }).click();
    await page.waitForTimeout(2000);
    await page.getByRole("button", { name: "Play" }).click();
    await page.waitForTimeout(1500);
    await page.getByText(/^2\d s behind$/).waitFor();
    await page.getByRole("button", { name: "To live" }).click();
    await page.getByText(/^[01]\.\d s behind$/).waitFor({ timeout: 10_000 });
    expect(await page.locator("#page").getAttribute("data-way")).toBe("a picture at a time");
    await page.close();
    encoder.kill("SIGTERM");
  });

  it("who finds no seat watches from the depot", async () => {
    const storage = new Storage();
    await storage.open();
    show.cli(["depot", "add", "attic", storage.url, "regatta", "--access-key", "harbour", "--secret-file", storage.secret(show.folder)]);
    show.cli(["depot", "change", "attic", "--public-address", `${storage.url}/regatta`]);
    show.cli(["channel", "add", "island", "--title", "Island", "--audience", "everybody", "--most-viewers", "1", "--publish-to", "attic"]);
    const encoder = show.startEncoder(show.key("island", "camera"), 60);
    const first = await browser.newPage({ userAgent: "first" });
    await first.goto(`${show.viewing}/watch/island`);
    await first.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 20_000 });
    const second = await browser.newPage({ userAgent: "second", viewport: { width: 1280, height: 800 } });
    const asked: string[] = [];
    second.on("request", (request) => asked.push(request.url()));
    await second.goto(`${show.viewing}/watch/island`);
    await second.waitForFunction(() => (document.querySelector("video")?.currentTime ?? 0) > 0.5, null, { timeout: 30_000 });
    await moves(second, 20);
    expect(asked.filter((address) => address.startsWith(storage.url) && address.endsWith(".m4s")).length).toBeGreaterThan(2);
    expect(asked.filter((address) => address.includes("/watch/island/live/"))).toEqual([]);
    await first.close();
    await second.close();
    encoder.kill("SIGTERM");
    storage.close();
  });

  it("the player goes on, without a reload, when the picture changes its size", async () => {
    show.cli(["channel", "add", "bridge", "--title", "Bridge", "--audience", "everybody", "--hold", "20"]);
    const bridge = show.key("bridge", "camera");
    const large = show.startEncoder(bridge, 60);
    const pages = await Promise.all(
      ["pictures", "near"].map(async (way) => {
        const page = await browser.newPage();
        await page.goto(`${show.viewing}/watch/bridge?way=${way}`);
        await page.waitForFunction(() => document.querySelector("video")?.videoWidth === 1280, null, { timeout: 20_000 });
        await page.evaluate(() => Object.assign(window, { isTheSame: true }));
        return page;
      }),
    );
    large.kill("SIGKILL");
    await pages[0]?.waitForTimeout(1500);
    const small = show.startEncoder(bridge, 40, SMALL_CLIP);
    for (const page of pages) {
      await page.waitForFunction(() => document.querySelector("video")?.videoWidth === 640, null, { timeout: 30_000 });
      const before = await playedTo(page);
      await expect.poll(async () => (await playedTo(page)) - before, { timeout: 10_000 }).toBeGreaterThan(1);
      expect(await page.evaluate(() => "isTheSame" in window)).toBe(true);
      await page.close();
    }
    small.kill("SIGTERM");
  });

  it("the player goes on, without a reload, when the encoder is lost and returns", async () => {
    const lost = show.startEncoder(key, 60);
    const pages = await Promise.all([watchPage("?way=pictures"), watchPage("?way=near")]);
    for (const page of pages) await page.evaluate(() => Object.assign(window, { isTheSame: true }));
    lost.kill("SIGKILL");
    await pages[0].getByText("It comes back by itself").waitFor({ timeout: 20_000 });
    const again = show.startEncoder(key, 30);
    for (const page of pages) {
      await page.waitForFunction(() => document.querySelector('[role="status"]')?.textContent === "", null, { timeout: 20_000 });
    }
    await pages[0].waitForTimeout(6000);
    for (const page of pages) {
      await moves(page, 15);
      expect(await page.evaluate(() => "isTheSame" in window)).toBe(true);
      await page.close();
    }
    again.kill("SIGTERM");
  });
});
