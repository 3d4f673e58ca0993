import jsQR from "jsqr";
import type { Browser, Locator } from "playwright-core";
import { PNG } from "pngjs";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { forbidden, launch, signIn } from "./browser";
import { SMALL_CLIP, Show } from "./show";

let browser: Browser;

beforeAll(async () => {
  browser = await launch();
});
afterAll(() => browser.close());

/** What a phone reads off the screen. */
async function readQr(picture: Locator): Promise<string> {
  const { data, width, height } = PNG.sync.read(await picture.screenshot());
  return jsQR(new Uint8ClampedArray(data), width, height)?.data ?? "";
}

/** A field for a moment takes the time of the browser's own zone. */
function inHours(hours: number): string {
  const time = new Date(Date.now() + hours * 3_600_000);
  return new Date(time.getTime() - time.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

describe("keys in the console", () => {
  const show = new Show();
  beforeAll(async () => {
    await show.open();
    show.signIn();
    show.cli(["channel", "add", "finish-line", "--title", "Finish line"]);
  });
  afterAll(() => show.stop());

  it("are made with rules, and a guest sees one and is seen", async () => {
    const page = await browser.newPage({ deviceScaleFactor: 2 });
    const told = forbidden(page);
    await signIn(page, show);
    await page.goto(`${show.url}/channels/finish-line`);
    await page.getByRole("button", { name: "Make key" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("For whom").fill("Umpire's launch");
    await dialog.getByLabel("Guest's link until").fill(inHours(24));
    await dialog.getByText("When, from where and how it opens").click();
    await dialog.getByLabel(/^Ends/).fill(inHours(48));
    await dialog.getByRole("button", { name: "Add hours" }).click();
    await dialog.getByRole("checkbox", { name: "sat" }).check();
    await dialog.getByRole("checkbox", { name: "sun" }).check();
    await dialog.getByLabel("Window 1 from").fill("00:00");
    await dialog.getByLabel("Window 1 until").fill("00:00");
    await dialog.getByLabel("Time zone").fill("Europe/Lisbon");
    await dialog.getByLabel("A second encoder with this key").selectOption("is turned away while the first sends");
    await dialog.getByRole("button", { name: "Make key" }).click();
    const link = await dialog.getByLabel("Guest's link", { exact: true }).inputValue();
    expect(link.startsWith(`${show.url}/guest#`)).toBe(true);
    const key = await dialog.getByLabel("Key", { exact: true }).inputValue();
    await dialog.getByText("QR code for a phone").click();
    const fields: [string, string][] = [
      ["Address and key in one", `${show.rtmp}/${key}`],
      ["Server alone", show.rtmp],
      ["Key alone", key],
      ["The same for SRT", `${show.srt}?streamid=${key}`],
      ["SRT address alone", show.srt],
    ];
    for (const [label, expected] of fields) {
      await dialog.getByRole("radio", { name: label, exact: true }).check();
      expect(await readQr(dialog.getByRole("img", { name: `QR code: ${label}` }))).toBe(expected);
    }
    await dialog.getByRole("button", { name: "Done" }).click();
    await page.getByText("mon-sun 00:00-24:00 (Europe/Lisbon) · one at a time").waitFor();

    const phone = await browser.newPage({ viewport: { width: 390, height: 844 }, colorScheme: "dark", deviceScaleFactor: 3 });
    const toldToPhone = forbidden(phone);
    await phone.goto(link);
    await phone.getByText("We do not see you yet.").waitFor();
    await phone.getByRole("heading", { name: "Umpire's launch" }).waitFor();
    expect(await phone.getByLabel("Key", { exact: true }).inputValue()).toBe(key);
    await phone.getByText("QR code for a phone").click();
    const code = phone.getByRole("img", { name: "QR code: Address and key in one" });
    expect(await readQr(code)).toBe(`${show.rtmp}/${key}`);
    const overflow = await phone.evaluate(() => document.documentElement.scrollWidth > document.documentElement.clientWidth);
    expect(overflow).toBe(false);
    const encoder = show.startEncoder(key, 120, SMALL_CLIP);
    const ended = new Promise((resolve) => encoder.once("exit", resolve));
    await phone.getByText("We see you: you are on air.").waitFor();
    await phone.getByText(/H\.264.*bit\/s/).waitFor();

    await page.getByText(/last used .* over RTMP/).waitFor();
    await page.getByRole("button", { name: "End the guest's link for Umpire's launch" }).waitFor();
    page.once("dialog", (asked) => void asked.accept());
    await page.getByRole("button", { name: "End the guest's link for Umpire's launch" }).click();
    await phone.getByText("There is no guest's link").waitFor();

    await page.getByRole("button", { name: "Retire key Umpire's launch" }).click();
    await dialog.getByLabel("its show is ended at once").check();
    await dialog.getByRole("button", { name: "Retire key" }).click();
    await ended;
    await page.getByText("Retired keys (1)").click();
    await page.getByText(/^retired 20/).waitFor();
    expect([...told, ...toldToPhone]).toEqual([]);
    await page.close();
    await phone.close();
  });

  it("are changed, renewed, and taken from a list", async () => {
    const page = await browser.newPage();
    await signIn(page, show);
    await page.goto(`${show.url}/channels/finish-line`);
    await page.getByRole("button", { name: "From a list" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("List").fill("Bow camera, Boathouse_2019\nBank, short");
    await dialog.getByRole("button", { name: "Make keys" }).click();
    await dialog.getByText("key 2: key: it has 5 characters").waitFor();
    await dialog.getByLabel("List").fill("Bow camera, Boathouse_2019\nBank");
    await dialog.getByRole("button", { name: "Make keys" }).click();
    await dialog.getByText("The keys are shown only now.").waitFor();
    await dialog.getByText(/in about 10\^\d+ tries/).waitFor();
    await dialog.getByRole("button", { name: "Done" }).click();

    await page.getByRole("button", { name: "Change key Bow camera" }).click();
    await dialog.getByLabel("For whom").fill("Stern camera");
    await dialog.getByLabel("Begins").fill(inHours(2));
    await dialog.getByRole("checkbox", { name: "SRT" }).check();
    await dialog.getByRole("button", { name: "Change key" }).click();
    await page.getByText("only over SRT").waitFor();
    await page.getByText(/^opens at 20/).waitFor();
    await page.getByRole("button", { name: "Change key Stern camera" }).click();
    await dialog.getByLabel("Begins").fill("");
    await dialog.getByRole("button", { name: "Change key" }).click();
    await page.getByText(/^opens at 20/).waitFor({ state: "detached" });

    await page.getByRole("button", { name: "Renew key Stern camera" }).click();
    await dialog.getByLabel("The old one opens until").fill(inHours(72));
    await dialog.getByRole("button", { name: "Renew key" }).click();
    await dialog.getByText("is shown only now").waitFor();
    await dialog.getByRole("button", { name: "Done" }).click();
    await page.getByText(/renews key \d+/).waitFor();
    await page.close();
  });
});
