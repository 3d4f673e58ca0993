import type { Browser } from "playwright-core";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { forbidden, launch, signIn } from "./browser";
import { Show } from "./show";

let browser: Browser;

beforeAll(async () => {
  browser = await launch();
});
afterAll(() => browser.close());

describe("other systems in the console", () => {
  const show = new Show();
  let club = "";
  beforeAll(async () => {
    await show.open(true, { WAVERANT_CALLS_PRIVATE_ADDRESSES: "127.0.0.1" });
    show.signIn();
    show.cli(["channel", "add", "finish-line", "--title", "Finish line"]);
    club = await show.club("Old camera");
  });
  afterAll(() => show.stop());

  it("are set up, tried, and decide who comes in", async () => {
    const page = await browser.newPage();
    const told = forbidden(page);
    await signIn(page, show);
    await page.getByRole("link", { name: "Systems" }).click();
    const asked = page.getByRole("region", { name: "Asked before somebody is let in" });
    await asked.getByText("Nobody: the keys alone decide.").waitFor();
    await asked.getByRole("button", { name: "Ask a system" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("Address").fill("http://192.168.9.9/relay");
    await dialog.getByLabel("While it does not answer, let in").selectOption("Whoever has a key that is known here");
    await dialog.getByRole("button", { name: "Save" }).click();
    expect(await dialog.getByLabel("Secret", { exact: true }).inputValue()).toMatch(/^whsec_/);
    await dialog.getByRole("button", { name: "Done" }).click();

    await asked.getByRole("button", { name: "Try it" }).click();
    await dialog.getByRole("button", { name: "Ask", exact: true }).click();
    await dialog.getByText("calls may not lead to").waitFor();
    await dialog.getByRole("button", { name: "Done" }).click();

    await asked.getByRole("button", { name: "Change" }).click();
    await dialog.getByLabel("Address").fill(club);
    await dialog.getByRole("button", { name: "Save" }).click();
    await asked.getByText(club).waitFor();
    expect(await asked.textContent()).toContain("whoever has a key that is known here");
    await asked.getByRole("button", { name: "Try it" }).click();
    await dialog.getByLabel("Label of its key").fill("Old camera");
    await dialog.getByRole("button", { name: "Ask", exact: true }).click();
    await dialog.getByText("Not let in. It hears: Not entered for the regatta.").waitFor();
    expect(await dialog.textContent()).toContain('"label": "Old camera"');
    await dialog.getByRole("button", { name: "Done" }).click();

    await show.encoder(show.key("finish-line", "Old camera"), 1);
    await page.getByRole("link", { name: "Turned away" }).click();
    await page.getByText("Not entered for the regatta. Ask the race office.").waitFor();
    await page.goto(`${show.url}/channels/finish-line`);
    const own = page.getByRole("region", { name: "Asked before somebody is let in" });
    await own.getByText("that of the house is asked").waitFor();
    await own.getByText("answered last in").waitFor();
    await own.getByRole("button", { name: "Ask a system" }).click();
    await dialog.getByLabel("Address").fill(club);
    await dialog.getByRole("checkbox", { name: /Ask it; without this nobody/ }).uncheck();
    await dialog.getByRole("button", { name: "Save" }).click();
    await dialog.getByRole("button", { name: "Done" }).click();
    await own.getByText("not asked for now").waitFor();
    await show.encoder(show.key("finish-line", "Old camera"), 1);
    expect(JSON.parse(show.cli(["session", "list", "--json"])).items).toHaveLength(1);
    await own.getByRole("button", { name: "Ask no more" }).click();
    await own.getByText("that of the house is asked").waitFor();
    expect(told).toEqual([]);
    await page.close();
  });

  it("are kept apart from callers that are held off", async () => {
    const page = await browser.newPage();
    const told = forbidden(page);
    await signIn(page, show);
    await page.getByRole("link", { name: "Turned away" }).click();
    const held = page.getByRole("region", { name: "Blocked, and the crew's" });
    await held.getByText("All addresses are received alike.").waitFor();
    await page.getByRole("button", { name: "Block 127.0.0.1" }).first().click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("Are").selectOption("welcome");
    await dialog.getByLabel("Why").fill("the club house");
    await dialog.getByRole("button", { name: "Save" }).click();
    await held.getByText("the club house · by harbour").waitFor();
    await held.getByRole("button", { name: "Block or welcome" }).click();
    await dialog.getByLabel("Address or network").fill("203.0.113.0/244");
    await dialog.getByRole("button", { name: "Save" }).click();
    await dialog.getByText("is no address and no network").waitFor();
    await dialog.getByLabel("Address or network").fill("203.0.113.0/24");
    await dialog.getByRole("button", { name: "Save" }).click();
    await held.getByText("203.0.113.0/24").waitFor();
    expect(show.cli(["address", "list"])).toMatch(/203\.0\.113\.0\/24 +│? *blocked/);
    await held.getByRole("button", { name: "Take away 203.0.113.0/24" }).click();
    await held.getByText("203.0.113.0/24").waitFor({ state: "detached" });
    expect(told).toEqual([]);
    await page.close();
  });

  it("are told what happens", async () => {
    const page = await browser.newPage();
    const told = forbidden(page);
    await signIn(page, show);
    await page.getByRole("link", { name: "Systems" }).click();
    const targets = page.getByRole("region", { name: "Told what happens" });
    await targets.getByText("Nobody is told.").waitFor();
    await targets.getByRole("button", { name: "Tell somebody" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("Name", { exact: true }).fill("club chat");
    await dialog.getByLabel(/^Address/).fill(`${club}?room=oarlock`);
    await dialog.getByLabel("What happens in").selectOption("finish-line");
    await dialog.getByLabel(/^How/).selectOption("As JSON of my own, for a chat");
    await dialog.getByLabel(/^Text/).fill('{"text": "{{ text }}"}');
    await dialog.getByRole("button", { name: "Save" }).click();
    await dialog.getByText("write a text place without quotes").waitFor();
    await dialog.getByLabel(/^Text/).fill('{"text": {{ text }}}');
    await dialog.getByRole("button", { name: "Save" }).click();
    expect(await dialog.getByLabel("Secret", { exact: true }).inputValue()).toMatch(/^whsec_/);
    await dialog.getByRole("button", { name: "Done" }).click();
    await targets.getByRole("button", { name: "Try club chat" }).click();
    await dialog.getByRole("button", { name: "Tell it" }).click();
    await dialog.getByText("Taken.").waitFor();
    expect(await dialog.textContent()).toContain('"text": "This is a test, asked for by harbour."');
    await dialog.getByRole("button", { name: "Done" }).click();

    await show.encoder(show.key("finish-line", "New camera"), 2);
    const deliveries = page.getByRole("region", { name: "Deliveries" });
    await deliveries.getByText(/^finish-line is over after/).first().waitFor();
    await deliveries.getByRole("button", { name: /^finish-line is on air/ }).first().click();
    await dialog.getByText('"ok": true').waitFor();
    expect(await dialog.textContent()).not.toContain("oarlock");
    await dialog.getByRole("button", { name: "Tell it again" }).click();
    await dialog.getByRole("button", { name: "Done" }).click();
    await targets.getByRole("button", { name: "Change club chat" }).click();
    await dialog.getByLabel(/^How/).selectOption("As events (CloudEvents 1.0, JSON)");
    await dialog.getByRole("checkbox", { name: "Tell it" }).uncheck();
    await dialog.getByRole("button", { name: "Save" }).click();
    await targets.getByText("not told for now").waitFor();
    await deliveries.getByLabel("State").selectOption("Given up");
    await deliveries.getByText("Nothing was told.").waitFor();
    await targets.getByRole("button", { name: "Remove club chat" }).click();
    await targets.getByRole("button", { name: "Remove club chat" }).click();
    await targets.getByText("Nobody is told.").waitFor();
    expect(told).toEqual([]);
    await page.close();
  });

  it("and the rest of the house are one file", async () => {
    const page = await browser.newPage();
    const told = forbidden(page);
    await signIn(page, show);
    await page.getByRole("link", { name: "Systems" }).click();
    await page.getByRole("link", { name: "The house as a file" }).click();
    await page.getByRole("button", { name: "Show this house" }).click();
    const file = page.getByRole("textbox", { name: "The file" });
    await expect.poll(() => file.inputValue()).toContain("[channels.finish-line]");
    const review = page.getByRole("button", { name: "Review", exact: true });
    await review.click();
    await page.getByText("The house is as the file says.").waitFor();

    const text = await file.inputValue();
    const added = '\n[channels.weir]\nhold_ms = "long"\n[[channels.weir.keys]]\nlabel = "drone"\n[destinations.plovio]\naddress = "rtmp://127.0.0.1:9/live"\nkey = { env = "PLOVIO_KEY" }\n';
    await file.fill(text + added);
    await review.click();
    const faults = page.getByRole("region", { name: "2 faults: nothing can be applied" });
    await faults.getByText("a whole number was expected").waitFor();
    await faults.getByRole("button", { name: /^line/ }).first().click();
    const chosen = await file.evaluate((field: HTMLTextAreaElement) => field.value.slice(field.selectionStart, field.selectionEnd));
    expect(chosen).toBe('hold_ms = "long"');
    expect(await page.getByRole("button", { name: "Apply these" }).count()).toBe(0);

    await file.fill(text.replace('title = "Finish line"', 'title = "Finish"') + added.replace('"long"', "700"));
    await review.click();
    await page.getByLabel(/destinations\.plovio\.key/).fill("a key of plovio");
    await page.getByRole("button", { name: "Review with these" }).click();
    const changes = page.getByRole("region", { name: "What would change" });
    await changes.getByText("3 added, 1 changed, 0 removed").waitFor();
    expect(await changes.textContent()).toMatch(/channel finish-line.*"Finish line".*"Finish"/);
    await changes.getByRole("button", { name: "Apply these" }).click();
    const once = page.getByRole("region", { name: "Shown this once" });
    expect(await once.getByLabel("Key", { exact: true }).inputValue()).toMatch(/-/);
    await page.getByRole("region", { name: "What was changed" }).getByText("key drone of weir").waitFor();
    expect(show.cli(["channel", "list"])).toContain("weir");
    await review.click();
    await page.getByText("The house is as the file says.").waitFor();
    expect(told).toEqual([]);
    await page.close();
  });

  it("are known to the command line", () => {
    const told = show.cli(["house-system", "try", "--label", "Harbour van", "--of", "finish-line", "--srt"]);
    expect(told).toContain("webhook-signature: v1,");
    expect(told).toContain("Let in. This holds for 10 s.");
    expect(show.cli(["house-system", "show"])).toContain(club);
    show.cli(["house-system", "remove"]);
    expect(show.cli(["house-system", "show"])).toContain("Nobody is asked");
  });
});
