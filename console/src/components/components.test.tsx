import { act, cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { CallError } from "../api/client";
import { place } from "../lib/levels";
import { CopyField } from "./CopyField";
import { LevelBars } from "./LevelBars";
import { ErrorNote } from "./Notes";
import { OpenLine } from "./OpenLine";
import { ThemeSwitch } from "./ThemeSwitch";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

describe("levels", () => {
  it("lie between -60 dBFS and full scale", () => {
    expect([place(null), place(-80), place(-60), place(-15), place(0), place(3)]).toEqual([0, 0, 0, 75, 100, 100]);
  });

  it("are told in words as well", () => {
    const heard = { channels: [{ rms: -20.2, peak: -12.1 }, { rms: null, peak: null }], short_term: -18.44 };
    render(<LevelBars heard={heard} label="Sound" />);
    expect(screen.getByRole("img", { name: "Level of Sound: -12 dBFS, silent" })).toBeTruthy();
    expect(screen.getByText("-18.4 LUFS")).toBeTruthy();
  });
});

describe("copy field", () => {
  it("copies its value and says so for a moment", async () => {
    vi.useFakeTimers();
    const writeText = vi.fn(() => Promise.resolve());
    vi.stubGlobal("navigator", { clipboard: { writeText } });
    render(<CopyField label="Stream key" value="abcdefg-secret" />);
    await act(async () => fireEvent.click(screen.getByLabelText("Copy Stream key")));
    expect(writeText).toHaveBeenCalledWith("abcdefg-secret");
    expect(screen.getByText("Copied")).toBeTruthy();
    act(() => vi.advanceTimersByTime(2000));
    expect(screen.getByText("Copy")).toBeTruthy();
  });

  it("selects the text where the page may not use the clipboard", async () => {
    vi.stubGlobal("navigator", {});
    document.execCommand = vi.fn(() => true);
    render(<CopyField label="Server" value="rtmp://relay.test/in" />);
    await act(async () => fireEvent.click(screen.getByLabelText("Copy Server")));
    expect(document.execCommand).toHaveBeenCalledWith("copy");
    const field = screen.getByLabelText<HTMLInputElement>("Server");
    expect([field.selectionStart, field.selectionEnd]).toEqual([0, field.value.length]);
  });
});

describe("error note", () => {
  it("shows what happened and what to do", () => {
    render(<ErrorNote error={new CallError("x", "The name is taken.", "Choose another name.")} />);
    expect(screen.getByRole("alert").textContent).toBe("The name is taken.Choose another name.");
  });

  it("does not show the inside of an unknown error", () => {
    render(<ErrorNote error={new Error("stack of things")} />);
    expect(screen.getByRole("alert").textContent).not.toContain("stack of things");
  });
});

describe("theme switch", () => {
  beforeEach(() => {
    const kept = new Map<string, string>();
    vi.stubGlobal("localStorage", {
      getItem: (key: string) => kept.get(key) ?? null,
      setItem: (key: string, value: string) => kept.set(key, value),
    });
    vi.stubGlobal("matchMedia", () => ({ matches: true }));
  });

  it("begins as the system wishes and keeps the choice", () => {
    const { unmount } = render(<ThemeSwitch />);
    expect(document.documentElement.dataset.theme).toBe("dusk");
    fireEvent.click(screen.getByLabelText("Light colours"));
    expect(document.documentElement.dataset.theme).toBe("reach");
    unmount();
    render(<ThemeSwitch />);
    expect(screen.getByLabelText("Dark colours")).toBeTruthy();
  });
});

describe("a line that is open", () => {
  it.each([
    [false, 1],
    [true, 0],
  ])("is told where the browser trusts it not (%s)", (isSecure, count) => {
    vi.stubGlobal("isSecureContext", isSecure);
    render(<OpenLine />);
    expect(screen.queryAllByRole("alert")).toHaveLength(count);
  });
});
