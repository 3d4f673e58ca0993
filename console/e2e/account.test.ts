import { createHmac } from "node:crypto";
import type { Browser, CDPSession, Page } from "playwright-core";
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
    const list = dialog.getByRole("list", { name: "Recovery codes" });
    await list.waitFor();
    const codes = await list.getByRole("listitem").allTextContents();
    expect(codes).toHaveLength(10);
    await dialog.getByRole("button", { name: "I have kept them" }).click();
    await page.getByRole("link", { name: "Board" }).first().waitFor();

    await page.getByRole("button", { name: "Sign out" }).click();
    await giveName(page);
    const code = page.getByLabel("Code of the authenticator");
    await code.fill("000000");
    await page.keyboard.press("Enter");
    await page.getByText("This code or passkey is wrong, or was used before.").waitFor();
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
    await page.getByRole("button", { name: "Take the authenticator away" }).click();
    await dialog.getByLabel("Your password").fill(PASSWORD);
    await dialog.getByLabel("Code of the authenticator").fill(codes[1] ?? "");
    await dialog.getByRole("button", { name: "Take it away" }).click();
    await page.getByText("The rules of this house ask you for one.").waitFor();
    expect(told).toEqual([]);
    await context.close();
  });
});

/** A device with a passkey inside the browser, as its developer tools have it. */
async function addDevice(page: Page): Promise<{ client: CDPSession; device: string }> {
  const client = await page.context().newCDPSession(page);
  await client.send("WebAuthn.enable");
  const options = { protocol: "ctap2", transport: "internal", hasUserVerification: true, isUserVerified: true, automaticPresenceSimulation: true } as const;
  const { authenticatorId } = await client.send("WebAuthn.addVirtualAuthenticator", { options });
  return { client, device: authenticatorId };
}

describe("a passkey", () => {
  const show = new Show();
  beforeAll(() => show.open(true, { WAVERANT_PEOPLE_SECOND_FACTOR_FROM: "engineer" }));
  afterAll(() => show.stop());

  it("is made, signs in beside the password, proves who one is, and is removed", async () => {
    const context = await browser.newContext();
    const page = await context.newPage();
    const told = forbidden(page);
    const { client, device } = await addDevice(page);
    // By its address it has no passkeys; by a name it has.
    await page.goto(show.url);
    await giveName(page);
    await page.getByRole("button", { name: "Add a passkey" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByText("for a name, not an address").waitFor();

    const named = show.url.replace("127.0.0.1", "localhost");
    await page.goto(named);
    await giveName(page);
    await page.getByText("The rules of this house ask you for one.").waitFor();
    await page.getByRole("button", { name: "Add a passkey" }).click();
    await dialog.getByLabel("Your password").fill(PASSWORD);
    await dialog.getByRole("button", { name: "Go on" }).click();
    await dialog.getByLabel("What you call it").fill("Harbour laptop");
    await dialog.getByRole("button", { name: "Make it" }).click();
    const list = dialog.getByRole("list", { name: "Recovery codes" });
    await list.waitFor();
    const codes = await list.getByRole("listitem").allTextContents();
    expect(codes).toHaveLength(10);
    await dialog.getByRole("button", { name: "I have kept them" }).click();
    await page.getByRole("link", { name: "Board" }).first().waitFor();
    expect((await client.send("WebAuthn.getCredentials", { authenticatorId: device })).credentials).toHaveLength(1);

    // A password alone opens nothing; with the passkey it does.
    await page.getByRole("button", { name: "Sign out" }).click();
    await giveName(page);
    const passkey = page.getByRole("button", { name: "Use a passkey" });
    await passkey.waitFor();
    await client.send("WebAuthn.setUserVerified", { authenticatorId: device, isUserVerified: false });
    await passkey.click();
    await page.getByText("Nothing was chosen, or it took too long.").waitFor();
    await client.send("WebAuthn.setUserVerified", { authenticatorId: device, isUserVerified: true });
    await passkey.click();
    await page.getByRole("heading", { level: 1 }).waitFor();

    // It stands in for a code elsewhere, too: a second one is made, and the same device makes none twice.
    await page.goto(`${named}/account`);
    await page.getByText("Harbour laptop").waitFor();
    await page.getByRole("button", { name: "Add a passkey" }).click();
    await dialog.getByLabel("Your password").fill(PASSWORD);
    await dialog.getByRole("button", { name: "Use a passkey" }).click();
    await dialog.getByRole("button", { name: "Make it" }).click();
    await dialog.getByText("This device has a passkey for you here already.").waitFor();
    await dialog.getByRole("button", { name: "Cancel" }).click();

    // At another host the browser has none for us, and a recovery code opens the house.
    await page.goto(`${show.url}/account`);
    await giveName(page);
    await page.getByLabel("Code of the authenticator").fill(codes[0] ?? "");
    await page.keyboard.press("Enter");
    await page.getByText("Harbour laptop").waitFor();

    await page.goto(`${named}/account`);
    await page.getByRole("button", { name: "Remove Harbour laptop" }).click();
    await dialog.getByLabel("Your password").fill(PASSWORD);
    await dialog.getByRole("button", { name: "Use a passkey" }).click();
    await page.getByText("The rules of this house ask you for one.").waitFor();
    expect(told).toEqual([]);
    await context.close();
  });

  it("is of no use when a copy of its key was used before, nor without the right password", async () => {
    const context = await browser.newContext();
    const page = await context.newPage();
    const { client, device } = await addDevice(page);
    const named = show.url.replace("127.0.0.1", "localhost");
    await page.goto(named);
    await giveName(page);
    await page.getByRole("button", { name: "Add a passkey" }).click();
    const dialog = page.getByRole("dialog");
    await dialog.getByLabel("Your password").fill(PASSWORD);
    await dialog.getByRole("button", { name: "Go on" }).click();
    await dialog.getByRole("button", { name: "Make it" }).click();
    await dialog.getByRole("button", { name: "I have kept them" }).click();
    await page.getByRole("button", { name: "Sign out" }).click();
    await giveName(page);
    await page.getByRole("button", { name: "Use a passkey" }).click();
    await page.getByRole("heading", { level: 1 }).waitFor();

    const [credential] = (await client.send("WebAuthn.getCredentials", { authenticatorId: device })).credentials;
    if (!credential) throw new Error("there is no passkey");
    await client.send("WebAuthn.removeCredential", { authenticatorId: device, credentialId: credential.credentialId });
    await client.send("WebAuthn.addCredential", { authenticatorId: device, credential: { ...credential, signCount: 0 } });
    await page.getByRole("button", { name: "Sign out" }).click();
    await giveName(page);
    await page.getByRole("button", { name: "Use a passkey" }).click();
    await page.getByText("This code or passkey is wrong, or was used before.").waitFor();

    const ask = (password: string) =>
      page.evaluate(async (password) => {
        const body = JSON.stringify({ name: "harbour", password });
        const response = await fetch("/api/v1/sign-in/passkey", { method: "POST", headers: { "content-type": "application/json" }, body });
        return [response.status, ((await response.json()) as { code?: string }).code];
      }, password);
    expect(await ask("wrong password")).toEqual([401, "wrong_password"]);
    expect(await ask(PASSWORD)).toEqual([200, undefined]);
    await context.close();
  });
});

describe("the certificate of an authority that is away", () => {
  const show = new Show();
  const settings = {
    WAVERANT_AUTHORITY_DIRECTORY: "https://localhost:1/directory",
    WAVERANT_AUTHORITY_NAMES: "relay.wexcombe.test",
    WAVERANT_AUTHORITY_AGREES_TO_TERMS: "true",
    WAVERANT_AUTHORITY_PROOF: "tls-alpn-01",
    WAVERANT_LISTEN_RTMPS: "127.0.0.1:0",
    WAVERANT_LISTEN_HTTPS: "127.0.0.1:0",
    WAVERANT_LISTEN_VIEWING_HTTPS: "127.0.0.1:0",
  };
  beforeAll(() => show.open(true, settings));
  afterAll(() => show.stop());

  it("is told with the reason, and can be asked for anew", async () => {
    const context = await browser.newContext();
    const page = await context.newPage();
    await page.goto(`${show.url}/certificate`);
    await giveName(page);
    await page.getByText("There is none yet.").waitFor();
    await page.getByText("Connection refused").waitFor();
    await page.getByRole("button", { name: "Have a new one now" }).click();
    await page.getByText("2 times in a row").waitFor();
    await page.getByRole("link", { name: "Findings" }).click();
    await page.getByText("certificate_not_renewed").first().waitFor();
    await context.close();
  });
});

describe("the house seen from outside", () => {
  const show = new Show();
  beforeAll(async () => {
    const answerer = await show.answerer();
    await show.open(true, {
      WAVERANT_LISTEN_RTMP: "0.0.0.0:0",
      WAVERANT_OUTSIDE_ANSWERER: answerer.url,
      WAVERANT_OUTSIDE_SECRET_FILE: answerer.secretFile,
    });
  });
  afterAll(() => show.stop());

  it("is told door by door, and tried", async () => {
    const context = await browser.newContext();
    const page = await context.newPage();
    await page.goto(`${show.url}/machine`);
    await giveName(page);
    await page.getByRole("link", { name: "Seen from outside" }).click();
    const doors = page.getByRole("region", { name: "Doors" }).getByRole("listitem");
    const rtmp = doors.filter({ hasText: "encoders, RTMP" });
    await rtmp.getByText(/^(open|not known)$/).waitFor();
    await doors.filter({ hasText: "console" }).getByText("this machine only", { exact: true }).waitFor();
    await page.getByText("It was not asked yet.").waitFor();
    await page.getByRole("button", { name: "Try the doors from outside" }).click();
    await rtmp.getByText("reached", { exact: true }).waitFor();
    await rtmp.getByText(/called at 127\.0\.0\.1: answered after \d+ ms/).waitFor();
    await page.getByText("It saw us come from 127.0.0.1.").waitFor();
    await context.close();
  });
});
