import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";

const top = fileURLToPath(new URL("../..", import.meta.url));
const programs = join(top, "target", "debug");

/** What stand-in encoders publish. */
export const CLIP = join(top, "demo", "regatta.mp4");

/** The same at a quarter of the size. */
export const SMALL_CLIP = join(top, "console", "e2e", "small.mp4");

export const PASSWORD = "regatta morning";

async function until(what: string, condition: () => boolean): Promise<void> {
  for (let tries = 0; tries < 400; tries++) {
    if (condition()) return;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  throw new Error(`waited too long for ${what}`);
}

/** A service of its own with stand-ins around it; everything ends with {@link Show.stop}. */
export class Show {
  readonly folder = mkdtempSync(join(tmpdir(), "waverant-console-"));
  private readonly children: ChildProcess[] = [];
  url = "";
  viewing = "";
  rtmp = "";
  srt = "";

  private start(program: string, args: string[], env: Record<string, string> = {}): ChildProcess {
    const child = spawn(join(programs, program), args, { env: { ...process.env, ...env }, stdio: "ignore" });
    this.children.push(child);
    return child;
  }

  /** A helper out there, on this machine. */
  async answerer(): Promise<{ url: string; secretFile: string }> {
    const secretFile = join(this.folder, "answerer-secret");
    const args = ["answer", "--listen", "127.0.0.1:0", "--secret-file", secretFile];
    const child = spawn(join(programs, "waverantd"), args, { stdio: ["ignore", "pipe", "ignore"] });
    this.children.push(child);
    let said = "";
    child.stdout.on("data", (text: Buffer) => (said += text.toString()));
    await until("the helper", () => said.includes("\n"));
    return { url: `http://${/answering at (\S+)/.exec(said)?.[1]}`, secretFile };
  }

  async open(administratorFile = true, settings: Record<string, string> = {}): Promise<void> {
    const administrator = join(this.folder, "administrator.toml");
    writeFileSync(administrator, `name = "harbour"\npassword = "${PASSWORD}"\n`);
    const ready = join(this.folder, "ready.json");
    this.start("waverantd", ["--settings", join(top, "waverant.toml")], {
      WAVERANT_LISTEN_RTMP: "127.0.0.1:0",
      WAVERANT_LISTEN_SRT: "127.0.0.1:0",
      WAVERANT_LISTEN_HTTP: "127.0.0.1:0",
      WAVERANT_LISTEN_VIEWING: "127.0.0.1:0",
      WAVERANT_HOUSE_STATE_FOLDER: join(this.folder, "state"),
      WAVERANT_HOUSE_RECORDINGS_FOLDER: join(this.folder, "recordings"),
      WAVERANT_HOUSE_READY_FILE: ready,
      ...settings,
      ...(administratorFile ? { WAVERANT_FIRST_RUN_ADMINISTRATOR_FILE: administrator } : {}),
    });
    await until("the service", () => existsSync(ready));
    const addresses = JSON.parse(readFileSync(ready, "utf8")) as {
      http: string;
      rtmp: string;
      srt: string;
      viewing: string;
    };
    this.viewing = `http://${addresses.viewing}`;
    this.url = `http://${addresses.http}`;
    this.rtmp = `rtmp://${addresses.rtmp}/in`;
    this.srt = `srt://${addresses.srt}`;
  }

  firstRunCode(): string {
    return readFileSync(join(this.folder, "state", "first-run-code"), "utf8").trim();
  }

  /** Runs the command-line client. */
  cli(args: string[], input = ""): string {
    const env = { ...process.env, XDG_CONFIG_HOME: join(this.folder, "config") };
    return execFileSync(join(programs, "waverant"), args, { env, input, encoding: "utf8" });
  }

  signIn(): void {
    this.cli(["sign-in", this.url, "--name", "harbour", "--password-file", "-"], PASSWORD);
  }

  /** Makes a stream key. */
  key(channel: string, label: string): string {
    const made = JSON.parse(this.cli(["key", "add", channel, label, "--json"])) as { encoder: { key: string } };
    return made.encoder.key;
  }

  async platform(name: string): Promise<string> {
    const address = join(this.folder, `${name}.address`);
    this.start("waverant-standin", ["platform", "--ready-file", address], { STANDIN_KEY: `${name}-key` });
    await until(name, () => existsSync(address));
    return `rtmp://${readFileSync(address, "utf8")}/live`;
  }

  /** A club's member list, which turns away who has this label. */
  async club(not: string): Promise<string> {
    const address = join(this.folder, "club.address");
    this.start("waverant-standin", ["club", "--not", not, "--ready-file", address]);
    await until("the club", () => existsSync(address));
    return `http://${readFileSync(address, "utf8")}/relay`;
  }

  encoder(key: string, seconds: number): Promise<void> {
    const child = this.startEncoder(key, seconds);
    return new Promise((resolve) => child.once("exit", () => resolve()));
  }

  startEncoder(key: string, seconds: number, clip = CLIP): ChildProcess {
    const args = ["encoder", "--server", this.rtmp, "--clip", clip, "--seconds", String(seconds)];
    return this.start("waverant-standin", args, { STANDIN_KEY: key });
  }

  /** An encoder over SRT with several tracks of sound, as in `en=Programme mix,cy=Riverbank`. */
  startSounds(key: string, sounds: string, seconds: number): ChildProcess {
    const args = ["encoder", "--server", this.srt, "--clip", CLIP, "--sounds", sounds, "--seconds", String(seconds)];
    return this.start("waverant-standin", args, { STANDIN_KEY: key });
  }

  async stop(): Promise<void> {
    for (const child of this.children.reverse()) {
      if (child.exitCode !== null || child.signalCode !== null) continue;
      const ended = new Promise((resolve) => child.once("exit", resolve));
      child.kill("SIGTERM");
      await ended;
    }
    rmSync(this.folder, { recursive: true, force: true });
  }
}
