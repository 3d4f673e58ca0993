import { type Browser, type Page, chromium } from "playwright-core";
import { PASSWORD, type Show } from "./show";

/** Without these Chromium asks the net for what no test needs, or waits for a click before it plays. */
const ARGUMENTS = [
  "--no-sandbox",
  "--disable-gpu",
  "--disable-quic",
  "--no-first-run",
  "--disable-background-networking",
  "--disable-component-update",
  "--disable-sync",
  "--autoplay-policy=no-user-gesture-required",
];

export function launch(): Promise<Browser> {
  return chromium.launch({ executablePath: "/usr/bin/chromium", args: ARGUMENTS });
}

/** What a page's own rules kept the browser from doing, as it says: nothing, if the pages keep to them. */
export function forbidden(page: Page): string[] {
  const told: string[] = [];
  page.on("console", (message) => {
    if (/content security policy/i.test(message.text())) told.push(message.text());
  });
  return told;
}

/** Signs in as the administrator that every show begins with. */
export async function signIn(page: Page, show: Show): Promise<void> {
  await page.goto(show.url);
  await page.getByLabel("User name").fill("harbour");
  await page.getByLabel("Password").fill(PASSWORD);
  await page.keyboard.press("Enter");
  await page.getByRole("heading", { level: 1 }).waitFor();
}
