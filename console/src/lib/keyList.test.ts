import { describe, expect, it } from "vitest";
import { readKeyList } from "./keyList";

describe("a list of keys", () => {
  it("has a label and perhaps a key in each line", () => {
    expect(readKeyList("Bow camera, Boathouse_2019\n\nUmpire's launch\r\nCamera, bank, Bank-2019\n")).toEqual({
      keys: [
        { label: "Bow camera", key: "Boathouse_2019" },
        { label: "Umpire's launch", key: null },
        { label: "Camera, bank", key: "Bank-2019" },
      ],
    });
  });

  it("tells the line that says nothing, and never the key in it", () => {
    expect(readKeyList("van\n, Boathouse_2019").fault).toBe("Line 2 does not say for whom the key is.");
    expect(readKeyList(" \n").fault).toBe("There is no line in it.");
  });
});
