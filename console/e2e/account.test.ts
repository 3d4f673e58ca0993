import { createHmac } from "node:crypto";
import type { Browser, Page } from "playwright-core";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { forbidden, launch } from "./browser";
import { PASSWORD, Show } from "./show";

let browser: Browser;

beforeAll(async () => {
  browser = await launch();
});
afterAll(() => browser.close());

/** The code of an authenticator (RFC 6238), by another implementation than the service's. */
function authenticatorCode(key: string, at = Date.now()): string {
  const bits = [...key].map((letter) => "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567".indexOf(letter).toString(2).padStart(5, "0")).join("");
  const bytes = Buffer.from(bits.match(/.{8}/g)?.map((byte) => Number.parseInt(byte, 2)) ?? []);
  const counter = Buffer.alloc(8);
  counter.writeBigUInt64BE(BigInt(Math.floor(at / 30_000)));
  const mac = createHmac("sha1", bytes).update(counter).digest();
  const value = mac.readUInt32BE((mac.at(-1) ?? 0) & 15) & 0x7fffffff;
  return String(value % 1_000_000).padStart(6, "0");
}

async function giveName(page: Page): Promise<void> {
  await page.getByLabel("User name").fill("harbour");
  await page.getByLabel("Password").fill(PASSWORD);
  await page.keyboard.press("Enter");
}

describe("the second factor, where the rules ask for it", () => {
  const show = new Show();
  beforeAll(() => show.open(true, { WAVERANT_PEOPLE_SECOND_FACTOR_FROM: "administrator" }));
  afterAll(() => show.stop());

  it("is set up first, asked for from then on, and replaced by a recovery code", async () => {
    const context = await browser.newContext();
    const page = await context.newPage();
    const told = forbidden(page);
    await page.goto(show.url);
    await giveName(page);
    await page.getByText("The rules of this house ask you for one.").waitFor();
    expect(await page.getByRole("link", { name: "Board" }).count()).toBe(0);

    await page.getByRole("button", { name: "Set up an authenticator" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("Your password").fill(PASSWORD);
    await page.keyboard.press("Enter");
    await dialog.getByRole("img", { name: "The key, for an authenticator" }).waitFor();
    const key = await dialog.getByLabel("Key", { exact: true }).inputValue();
    await dialog.getByLabel("Its code now").fill("000000");
    await dialog.getByRole("button", { name: "Ask for it from now on" }).click();
    await dialog.getByText("it is none of the new key").waitFor();
    await dialog.getByLabel("Its code now").fill(authenticatorCode(key));
    await dialog.getByRole("button", { name: "Ask for it from now on" }).click();
    const codes = await dialog.getByRole("list", { name: "Recovery codes" }).getByRole("listitem").allTextContents();
    expect(codes).toHaveLength(10);
    await dialog.getByRole("button", { name: "I have kept them" }).click();
    await page.getByRole("link", { name: "Board" }).first().waitFor();

    await page.getByRole("button", { name: "Sign out" }).click();
    await giveName(page);
    const code = page.getByLabel("Code of the authenticator");
    await code.fill("000000");
    await page.keyboard.press("Enter");
    await page.getByText("This code is wrong, or was used before.").waitFor();
    await code.fill(authenticatorCode(key, Date.now() + 30_000));
    await page.keyboard.press("Enter");
    await page.getByRole("heading", { level: 1 }).waitFor();

    await page.goto(`${show.url}/account`);
    await page.getByText("10 recovery codes are left.").waitFor();
    await page.getByRole("button", { name: "Sign out" }).click();
    await giveName(page);
    await code.fill(codes[0] ?? "");
    await page.keyboard.press("Enter");
    await page.getByRole("heading", { level: 1 }).waitFor();
    await page.goto(`${show.url}/account`);
    await page.getByText("9 recovery codes are left.").waitFor();
    await page.getByRole("button", { name: "Take it away" }).click();
    await dialog.getByLabel("Your password").fill(PASSWORD);
    await dialog.getByLabel("Code of the authenticator").fill(codes[1] ?? "");
    await dialog.getByRole("button", { name: "Take it away" }).click();
    await page.getByText("The rules of this house ask you for one.").waitFor();
    expect(told).toEqual([]);
    await context.close();
  });
});
