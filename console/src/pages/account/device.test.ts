import { describe, expect, it } from "vitest";
import { deviceName } from "./device";

describe("what a browser says of itself", () => {
  it.each([
    ["Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Safari/537.36", "A browser on Linux"],
    ["Mozilla/5.0 (Linux; Android 15; Phone) AppleWebKit/537.36", "A browser on Android"],
    ["Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1.15", "A browser on iOS"],
    ["waverant/0.1.0", "waverant/0.1.0"],
    ["", "A browser"],
  ])("%s", (agent, expected) => {
    expect(deviceName(agent)).toBe(expected);
  });
});
