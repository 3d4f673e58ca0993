import type { Browser, Page } from "playwright-core";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { forbidden, launch, signIn } from "./browser";
import { PathProxy } from "./proxy";
import { PASSWORD, Show } from "./show";

let browser: Browser;

beforeAll(async () => {
  browser = await launch();
});
afterAll(() => browser.close());

describe("a show in the console", () => {
  const show = new Show();
  beforeAll(() => show.open());
  afterAll(() => show.stop());

  it("is made, watched, switched, and played", async () => {
    const page = await browser.newPage();
    const told = forbidden(page);
    await page.goto(show.url);
    await page.getByLabel("User name").fill("harbour");
    await page.getByLabel("Password").fill("wrong password");
    await page.keyboard.press("Enter");
    await page.getByText("Name and password do not belong together.").waitFor();
    await signIn(page, show);
    await page.getByText("No channels yet.").waitFor();

    await page.getByRole("button", { name: "Add channel" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("Title").fill("Finish line");
    await dialog.getByLabel("Name").fill("Finish Line");
    await dialog.getByRole("button", { name: "Add channel" }).click();
    await dialog.getByText("use small letters, digits and hyphens").waitFor();
    await dialog.getByLabel("Name").fill("finish-line");
    await dialog.getByRole("button", { name: "Add channel" }).click();

    await page.getByRole("button", { name: "Make key" }).click();
    await dialog.getByLabel("For whom").fill("van");
    await dialog.getByRole("button", { name: "Make key" }).click();
    const key = await dialog.getByLabel("Key", { exact: true }).inputValue();
    expect(await dialog.getByLabel("Server", { exact: true }).inputValue()).toBe(show.rtmp);
    await dialog.getByRole("button", { name: "Done" }).click();

    await page.getByRole("button", { name: "Make key" }).click();
    await dialog.getByLabel("For whom").fill("vision mixer");
    await dialog.getByLabel("Watching").check();
    await dialog.getByRole("button", { name: "Make key" }).click();
    expect(await dialog.getByLabel("Server", { exact: true }).inputValue()).toBe(show.rtmp.replace(/in$/, "out"));
    await dialog.getByRole("button", { name: "Done" }).click();
    await page.getByText("for watching").waitFor();

    await page.getByRole("button", { name: "Add destination" }).click();
    await dialog.getByLabel("Name").fill("plovio");
    await dialog.getByLabel("Address").fill(await show.platform("plovio"));
    await dialog.getByLabel("Key").fill("plovio-key");
    await dialog.getByRole("button", { name: "Add and switch on" }).click();
    await page.getByLabel("plovio is on").waitFor();
    await page.getByRole("button", { name: "Show the key of plovio" }).click();
    await dialog.getByLabel("Your password").fill(PASSWORD);
    await dialog.getByRole("button", { name: "Show the key" }).click();
    expect(await dialog.getByLabel("Key", { exact: true }).inputValue()).toBe("plovio-key");
    await dialog.getByRole("button", { name: "Done" }).click();

    const published = show.encoder(key, 12);
    await page.goto(show.url);
    await page.getByText("1 channel on air").waitFor();
    await page.getByText("1 of 1 leg carries").waitFor();
    await page.getByText("1280×720").waitFor();
    const sending = page.getByLabel("Send to plovio");
    await sending.click();
    await page.getByText("no destinations are on").waitFor();
    await sending.click();
    await page.getByText("1 of 1 leg carries").waitFor();
    await page.goto(`${show.url}/channels/finish-line`);
    await page.getByLabel("What happens now").fill("Heat 1 starts");
    await page.getByRole("button", { name: "Mark" }).click();
    await page.getByText("1 marked").waitFor();
    await page.goto(show.url);
    await published;
    await page.getByText("Nothing is on air").waitFor();

    await page.goto(`${show.url}/channels/finish-line`);
    await page.getByText("the encoder stopped").waitFor();
    await page.getByRole("button", { name: "Open take 1 of session 1" }).click();
    await page.getByRole("button", { name: "Heat 1 starts" }).waitFor();
    await expectPictureAndSound(page);
    await page.goto(`${show.url}/sessions/1`);
    await page.getByRole("heading", { name: "Timeline" }).waitFor();
    expect(told).toEqual([]);
    await page.close();
  });

  it("is found, cut, written about, checked, removed and had back in the library", async () => {
    const page = await browser.newPage();
    await signIn(page, show);
    await page.getByRole("link", { name: "Recordings" }).click();
    const strip = page.locator("li img").first();
    await strip.waitFor();
    await page.waitForFunction(() => (document.querySelector("li img") as HTMLImageElement).naturalWidth === 1200);
    await page.getByLabel("At least, in minutes").fill("5");
    await page.getByText("No recordings.").waitFor();
    await page.getByLabel("At least, in minutes").fill("");
    await page.getByLabel("Channel").selectOption("finish-line");

    await page.getByRole("button", { name: "Open take 1 of session 1" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("Title").fill("Heat 1");
    await dialog.getByRole("button", { name: "Save" }).click();
    await dialog.getByRole("button", { name: "Saved" }).waitFor();
    await dialog.getByRole("button", { name: "Check" }).click();
    await dialog.getByText("Nothing is wrong with it.").waitFor();
    await page.evaluate(() => {
      const video = document.querySelector("video");
      if (video) video.currentTime = 5;
    });
    await dialog.getByRole("button", { name: "End here" }).click();
    await page.evaluate(() => {
      const video = document.querySelector("video");
      if (video) video.currentTime = 1;
    });
    await dialog.getByRole("button", { name: "Begin here" }).click();
    await dialog.getByText("0:01 to 0:05").waitFor();
    const piece = await dialog.getByRole("link", { name: "This piece" }).getAttribute("href");
    const fetched = await page.request.get(`${show.url}${piece}`);
    expect(fetched.headers()["content-type"]).toBe("video/mp4");
    expect(fetched.headers()["content-disposition"]).toMatch(/^attachment; filename=".*_cut\.mp4"$/);
    await dialog.getByRole("button", { name: "Cut a take" }).click();
    await dialog.getByText("The piece is a take of its own now.").waitFor();
    await dialog.getByRole("button", { name: "Remove" }).click();
    await dialog.getByRole("button", { name: "Yes, remove this take" }).click();
    await page.getByText("Take 1 of session 1 is removed.").waitFor();
    await page.getByText("cut from take 1").waitFor();
    await page.getByRole("button", { name: "Have it back" }).click();
    await page.getByText("Heat 1").first().waitFor();
    await page.close();
  });

  it("is recorded by rules", async () => {
    const page = await browser.newPage();
    await signIn(page, show);
    await page.goto(`${show.url}/channels/finish-line`);
    await page.getByRole("button", { name: "What is recorded" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("Names").fill("../{session}-{take}");
    await dialog.getByRole("button", { name: "Save" }).click();
    await dialog.getByText("is no name for a folder or file").waitFor();
    await dialog.getByLabel("Names").fill("{date}/{channel} {session}-{take}");
    await dialog.locator("select[name=format]").selectOption("matroska");
    await dialog.getByLabel("New take every … minutes").fill("10");
    await dialog.getByLabel("Keep days").fill("7");
    await dialog.getByRole("button", { name: "Save" }).click();
    await page.getByText("records every session, as Matroska, split every 10:00, kept 7 days").waitFor();
    await page.close();
  });

  it("is prepared and rehearsed, and reported", async () => {
    const page = await browser.newPage();
    page.on("dialog", (asked) => void asked.accept());
    await signIn(page, show);
    await page.goto(`${show.url}/channels/finish-line`);
    const dialog = page.getByRole("dialog");
    await page.getByRole("button", { name: "Try plovio" }).click();
    await dialog.getByText("`live` lets us in").waitFor();
    await dialog.getByRole("button", { name: "Try the key too" }).click();
    await dialog.getByText("the key is taken").waitFor();
    await dialog.getByRole("button", { name: "Done" }).click();

    await page.getByRole("button", { name: "Change plovio" }).click();
    await dialog.getByLabel("Delay on this channel, seconds").fill("2.5");
    await dialog.getByPlaceholder("all that it takes").fill("loud");
    await dialog.getByLabel("Encrypted connections only").check();
    await dialog.getByRole("button", { name: "Save" }).click();
    await dialog.getByText("does not choose a track").waitFor();
    await dialog.getByPlaceholder("all that it takes").fill("number:1");
    await dialog.getByRole("button", { name: "Save" }).click();
    await page.getByText("2.5 s later").waitFor();
    await page.getByRole("list", { name: "Findings" }).getByText("plovio takes encrypted connections only").waitFor();

    await page.getByRole("button", { name: "Rules" }).click();
    await dialog.getByLabel("A second encoder comes").selectOption("replace");
    await dialog.getByLabel("SRT latency, in milliseconds").fill("700");
    await dialog.getByLabel("SRT passphrase").fill("wexcombe reach");
    await dialog.getByLabel("Clip (MP4)").setInputFiles("../demo/regatta.mp4");
    await dialog.getByRole("button", { name: "Save" }).click();
    await dialog.waitFor({ state: "detached" });
    expect(JSON.parse(await (await page.request.get(`${show.url}/api/v1/channels/finish-line`)).text())).toMatchObject({
      takeover: "replace",
      slate: "uploaded",
    });

    await page.getByRole("button", { name: "Rehearse" }).click();
    await dialog.getByLabel("Seconds").fill("3");
    await dialog.getByRole("button", { name: "Begin" }).click();
    await page.getByRole("heading", { name: "Rehearsal 2" }).waitFor();
    await page.getByText("the rehearsal is done").waitFor();
    await page.getByRole("img", { name: "built-in sink carried 0:02" }).or(page.getByRole("img", { name: "built-in sink carried 0:03" })).waitFor();
    await page.close();
  });

  it("says what a platform's complaint may be, and what more shows would need", async () => {
    const page = await browser.newPage();
    await signIn(page, show);
    await page.goto(`${show.url}/findings`);
    const now = page.getByRole("region", { name: "Now" });
    await now.getByText("plovio takes encrypted connections only").waitFor();
    await page.getByLabel("In its own words").fill("We only take RTMPS");
    await page.getByRole("button", { name: "Ask" }).click();
    const likely = page.getByRole("list", { name: "What it may be" });
    await likely.getByText("stands on finish-line").waitFor();
    expect(await likely.getByRole("listitem").first().innerText()).toContain("limit tls");

    await page.goto(`${show.url}/machine`);
    await page.getByRole("region", { name: "Now" }).getByText("Processors").waitFor();
    await page.getByLabel("Uplink, Mbit/s").fill("10");
    await page.getByRole("button", { name: "Reckon" }).click();
    await page.getByText("What gives first: uplink.").waitFor();
    await page.getByText("too little").first().waitFor();
    await page.close();
  });

  it("draws a show over time, looks closer, lays another over it, and prints", async () => {
    const page = await browser.newPage();
    await signIn(page, show);
    await page.goto(`${show.url}/sessions/1`);
    const timeline = page.getByRole("region", { name: "Timeline" });
    const bitrate = timeline.getByRole("figure", { name: "Bitrate over time" });
    await bitrate.locator("canvas").waitFor();
    await timeline.getByRole("figure", { name: "Destinations over time" }).getByText("plovio").waitFor();
    expect(await bitrate.getByRole("listitem").allInnerTexts()).toEqual(expect.arrayContaining([expect.stringMatching(/^in/), expect.stringMatching(/^plovio/)]));

    const plot = bitrate.locator(".u-over");
    await plot.scrollIntoViewIfNeeded();
    const box = await plot.boundingBox();
    if (!box) throw new Error("the plot has no place");
    await page.mouse.move(box.x + box.width * 0.2, box.y + 40);
    await page.mouse.down();
    await page.mouse.move(box.x + box.width * 0.9, box.y + 40, { steps: 4 });
    await page.mouse.up();
    const back = timeline.getByRole("button", { name: /^0:0\d to 0:/ });
    await back.waitFor();
    await back.click();
    await back.waitFor({ state: "detached" });

    await timeline.getByLabel("Another show laid over").selectOption("2");
    await bitrate.getByText("in, session 2").waitFor();
    const table = await page.request.get(`${show.url}${await timeline.getByRole("link", { name: "As a table (CSV)" }).getAttribute("href")}`);
    expect((await table.text()).split("\r\n")[0]).toMatch(/^session,time,second,/);

    await page.emulateMedia({ media: "print" });
    expect(await page.getByRole("navigation", { name: "Pages" }).isVisible()).toBe(false);
    expect(await bitrate.isVisible()).toBe(true);
    expect((await page.pdf()).length).toBeGreaterThan(20_000);

    await page.emulateMedia({ media: "screen" });
    await page.goto(`${show.url}/machine`);
    await page.getByRole("figure", { name: "Processors over time" }).locator("canvas").waitFor();
    const bundle = await page.request.get(`${show.url}${await page.getByRole("link", { name: "Support bundle" }).getAttribute("href")}`);
    expect(bundle.headers()["content-type"]).toBe("application/gzip");
    await page.close();
  });

  it("shows who was turned away", async () => {
    const page = await browser.newPage();
    await signIn(page, show);
    await show.encoder("abcdefg-wrongkey", 1);
    await page.getByRole("link", { name: "Turned away" }).click();
    await page.getByText("The stream key is not known here.").first().waitFor();
    await page.getByText("abcdefg-…").first().waitFor();
    await page.close();
  });

  it("shows where one is signed in, ends one of them, and takes no wrong password", async () => {
    const page = await browser.newPage();
    await signIn(page, show);
    const tablet = { name: "harbour", password: PASSWORD, token_label: "tablet" };
    expect((await page.request.post(`${show.url}/api/v1/sign-in`, { data: tablet })).ok()).toBe(true);
    await page.getByRole("link", { name: "My account, harbour" }).click();
    const signIns = page.getByRole("list", { name: "Sign-ins" });
    await signIns.getByText("this one").waitFor();
    await page.getByRole("button", { name: /^End tablet/ }).click();
    await signIns.getByText("tablet").waitFor({ state: "detached" });

    await page.getByLabel("Present password").fill("regatta evening");
    await page.locator("input[name=wanted]").fill("weir heron ferry");
    await page.getByLabel("New password again").fill("weir heron");
    await page.getByRole("button", { name: "Change the password" }).click();
    await page.getByText("The new passwords differ.").waitFor();
    await page.getByLabel("New password again").fill("weir heron ferry");
    await page.getByRole("button", { name: "Change the password" }).click();
    await page.getByText("it is not the present password").waitFor();
    await page.close();
  });

  it("lets somebody in who sees what an observer may, and no more", async () => {
    const page = await browser.newPage();
    page.on("dialog", (asked) => void asked.accept());
    await signIn(page, show);
    await page.getByRole("link", { name: "People" }).click();
    await page.getByRole("button", { name: "Let somebody in" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("User name").fill("cox");
    await dialog.getByRole("button", { name: "Make the invitation" }).click();
    const link = await dialog.getByLabel("One-time link", { exact: true }).inputValue();
    await dialog.getByRole("button", { name: "Done" }).click();
    await page.getByText("invited until").waitFor();

    const others = await browser.newContext();
    const cox = await others.newPage();
    await cox.goto(link);
    await cox.getByRole("heading", { name: "Welcome, cox" }).waitFor();
    await cox.locator("input[name=password]").fill("weir heron ferry");
    await cox.getByLabel("Password again").fill("weir heron ferry");
    await cox.getByRole("button", { name: "Choose it and sign in" }).click();
    await cox.getByRole("link", { name: "My account, cox" }).waitFor();
    expect(await cox.getByRole("button", { name: "Add channel" }).count()).toBe(0);
    expect(await cox.getByRole("link", { name: "People" }).count()).toBe(0);
    await cox.goto(`${show.url}/channels/finish-line`);
    await cox.getByRole("heading", { name: "Destinations" }).waitFor();
    expect(await cox.getByRole("button", { name: "Rules" }).count()).toBe(0);
    expect(await cox.getByRole("region", { name: "Keys" }).count()).toBe(0);

    const give = async (house: string, channel: string) => {
      await page.getByRole("button", { name: "Roles of cox" }).click();
      const roles = page.getByRole("dialog");
      await roles.getByLabel("Role in the house").selectOption(house);
      await roles.getByLabel("Role on finish-line").selectOption(channel);
      await roles.getByRole("button", { name: "Change the roles" }).click();
      await roles.waitFor({ state: "detached" });
    };
    await give("", "operator");
    await page.getByText("Operator on finish-line").waitFor();
    await cox.reload();
    await cox.getByRole("button", { name: /Rehearse|End the session/ }).waitFor();
    expect(await cox.getByRole("link", { name: "Machine" }).count()).toBe(0);
    expect(await cox.getByRole("button", { name: "Rules" }).count()).toBe(0);
    await page.goto(`${show.url}/who-did-what`);
    await page.getByLabel("Person").fill("harbour");
    await page.getByLabel("What", { exact: true }).fill("change person");
    await page.getByRole("button", { name: "Show", exact: true }).click();
    await page.getByRole("cell", { name: "person cox" }).first().waitFor();
    await page.getByRole("cell", { name: "role observer" }).waitFor();
    await page.getByLabel("Outcome").selectOption("refused");
    await page.getByRole("button", { name: "Show", exact: true }).click();
    await page.getByText("Nothing of that kind was done.").waitFor();
    await page.goto(`${show.url}/people`);
    await give("engineer", "");
    await cox.reload();
    await cox.getByRole("button", { name: "Rules" }).waitFor();
    await page.getByRole("button", { name: "Remove cox" }).click();
    await page.getByRole("list", { name: "People" }).getByText("cox").waitFor({ state: "detached" });
    await cox.reload();
    await cox.getByRole("button", { name: "Sign in" }).waitFor();
    await others.close();
    await page.close();
  });

  it("fits a phone and can be used by keyboard", async () => {
    const page = await browser.newPage({ viewport: { width: 390, height: 844 } });
    await signIn(page, show);
    await page.getByText("Finish line").first().waitFor();
    const overflow = await page.evaluate(() => document.documentElement.scrollWidth - window.innerWidth);
    expect(overflow).toBe(0);
    for (let presses = 0; presses < 20; presses++) {
      await page.keyboard.press("Tab");
      const label = await page.evaluate(() => document.activeElement?.textContent ?? "");
      if (label.includes("Finish line")) break;
    }
    await page.keyboard.press("Enter");
    await page.waitForURL("**/channels/finish-line");
    await page.close();
  });

  it("answers the command line about the same show", () => {
    show.cli(["sign-in", show.url, "--name", "harbour", "--password-file", "-"], PASSWORD);
    expect(show.cli(["channel", "list"])).toMatch(/finish-line\s+Finish line\s+10\.0 s\s+always, matroska, split after 10:00 min, keep 7\.0 days\s+replace\s+uploaded\s+700 ms, passphrase\s+plovio \(2\.5 s later\)/);
    expect(show.cli(["session", "show", "1"])).toContain("the encoder stopped");
    expect(show.cli(["turned-away", "list"])).toContain("abcdefg-…");
    expect(show.cli(["live", "show"])).toMatch(/finish-line\s+off air/);
    const made = show.cli(["key", "add", "finish-line", "spare"]);
    expect(made).toMatch(/server {2}rtmp:\/\/127\.0\.0\.1:\d+\/in\n {2}key {5}[a-z2-9]{7}-[a-z2-9]{26}/);
    const fetched = JSON.parse(show.cli(["take", "fetch", "1", "--output", `${show.folder}/take.mp4`, "--json"]));
    expect(fetched.size_bytes).toBeGreaterThan(1_000_000);
    expect(() => show.cli(["channel", "remove", "nowhere"])).toThrow(/There is no channel `nowhere`/);
    show.cli(["sign-out"]);
    expect(() => show.cli(["channel", "list"])).toThrow(/no service is known yet/);
  });
});

/** The take runs on, shows a picture that is not one colour, and can be heard. */
async function expectPictureAndSound(page: Page): Promise<void> {
  const heard = await page.evaluate(async () => {
    const video = document.querySelector("video");
    if (!video) throw new Error("no player");
    const context = new AudioContext();
    const analyser = context.createAnalyser();
    context.createMediaElementSource(video).connect(analyser).connect(context.destination);
    await context.resume();
    await video.play();
    const wave = new Float32Array(analyser.fftSize);
    let loudest = 0;
    for (let tries = 0; tries < 100 && video.currentTime < 2; tries++) {
      await new Promise((resolve) => setTimeout(resolve, 50));
      analyser.getFloatTimeDomainData(wave);
      loudest = Math.max(loudest, ...wave.map(Math.abs));
    }
    const canvas = document.createElement("canvas");
    [canvas.width, canvas.height] = [video.videoWidth, video.videoHeight];
    const drawing = canvas.getContext("2d");
    drawing?.drawImage(video, 0, 0);
    const pixels = drawing?.getImageData(0, 0, canvas.width, canvas.height).data ?? [];
    const colours = new Set<number>();
    for (let at = 0; at < pixels.length; at += 4 * 997) colours.add(((pixels[at] ?? 0) >> 4) * 256 + (pixels[at + 2] ?? 0));
    return { time: video.currentTime, duration: video.duration, width: video.videoWidth, loudest, colours: colours.size };
  });
  expect(heard.time).toBeGreaterThan(1.5);
  expect(heard.duration).toBeGreaterThan(11.5);
  expect(heard.duration).toBeLessThan(12.5);
  expect(heard.width).toBe(1280);
  expect(heard.loudest).toBeGreaterThan(0.01);
  expect(heard.colours).toBeGreaterThan(20);
}

describe("behind a proxy that has it under a path", () => {
  const show = new Show();
  beforeAll(() => show.open(true, { WAVERANT_HOUSE_CONSOLE_PATH: "/club/relay" }));
  afterAll(() => show.stop());

  it.each([true, false])("works, whether the proxy takes the path off (%s) or not", async (takesOff) => {
    const proxy = new PathProxy(new URL(show.url), "/club/relay", takesOff);
    const url = await proxy.open();
    const context = await browser.newContext();
    const page = await context.newPage();
    const told = forbidden(page);
    await page.goto(`${url}/`);
    await page.getByLabel("User name").fill("harbour");
    await page.getByLabel("Password").fill(PASSWORD);
    await page.keyboard.press("Enter");
    await page.getByRole("heading", { level: 1 }).waitFor();
    expect((await context.cookies()).map(({ name, path }) => [name, path])).toEqual([["waverant", "/club/relay"]]);
    await page.getByRole("link", { name: "People" }).click();
    await page.waitForURL(`${url}/people`);
    await page.reload();
    await page.getByRole("heading", { name: "The crew" }).waitFor();
    await page.getByRole("button", { name: "Let somebody in" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("User name").fill(takesOff ? "cox" : "bow");
    await dialog.getByRole("button", { name: "Make the invitation" }).click();
    expect(await dialog.getByLabel("One-time link", { exact: true }).inputValue()).toContain(`${url}/invitation#`);
    await page.goto(`${url}/`);
    // The live state comes by the same way.
    await page.getByText("No channels yet.").waitFor();
    await page.getByRole("button", { name: "Sign out" }).click();
    await page.getByLabel("Password").waitFor();
    expect(await context.cookies()).toEqual([]);
    expect(told).toEqual([]);
    await context.close();
    proxy.close();
  });
});

describe("the first run", () => {
  const show = new Show();
  beforeAll(() => show.open(false));
  afterAll(() => show.stop());

  it("makes the administrator with the one-time code, once", async () => {
    const page = await browser.newPage();
    await page.goto(show.url);
    await page.getByLabel("One-time code").fill("aaaa-bbbb-cccc");
    await page.getByLabel("User name").fill("harbour");
    await page.getByLabel("Password").fill(PASSWORD);
    await page.getByRole("button", { name: "Make administrator" }).click();
    await page.getByText("The one-time code is wrong or no longer valid.").waitFor();
    const code = show.firstRunCode();
    await page.getByLabel("One-time code").fill(code);
    await page.getByRole("button", { name: "Make administrator" }).click();
    await page.getByText("No channels yet.").waitFor();
    expect(() => show.firstRunCode()).toThrow();
    const again = await page.request.post(`${show.url}/api/v1/first-run`, {
      data: { code, name: "second", password: PASSWORD },
    });
    expect(again.status()).toBe(403);
    await page.close();
  });
});
