import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Finding, LiveChannel, LiveLeg, LiveSession, LiveVideo } from "../../api/types";
import { ChannelCard } from "./ChannelCard";
import { Headline } from "./Headline";

// The test's document has no view.
beforeEach(() => {
  vi.stubGlobal(
    "IntersectionObserver",
    class {
      observe() {}
      disconnect() {}
    },
  );
});

function leg(destination: string, state: LiveLeg["state"], more: Partial<LiveLeg> = {}): LiveLeg {
  return {
    destination,
    state,
    state_for_ms: 65_000,
    bitrate_bps: 1_740_000,
    behind_ms: 12,
    sent_frame_count: 900,
    sent_bytes: 1,
    dropped_frame_count: 0,
    dropped_ms: 0,
    delay_ms: 0,
    redial_count: 0,
    trace: [],
    ...more,
  };
}

function finding(code: string, more: Partial<Finding> = {}): Finding {
  return { code, severity: "warning", cause: code, advice: "set it to less", destinations: [], is_muted: false, ...more };
}

const picture: LiveVideo = {
  codec: "H.264 High",
  width: 1280,
  height: 720,
  frame_rate: 29.97,
  bitrate_bps: 1_612_000,
  keyframe_spacing_ms: 2000,
  uneven_share: 0,
  missing_share: 0,
  group_pictures: 60,
  group_bps: 1_600_000,
  reordered_run: 0,
  has_open_groups: false, is_hdr: false,
};

const session: LiveSession = {
  id: 7,
  started_at: new Date(Date.now() - 125_000).toISOString(),
  state_for_ms: 125_000,
  loss_count: 0,
  publisher_address: "192.0.2.7:50000",
  key_label: "van",
  waiting: [],
  is_slate_on: false,
  is_rehearsal: false,
  encoder: "stand-in",
  video: picture,
  audio: [{ codec: "AAC", sample_rate_hz: 48_000, channel_count: 2, bitrate_bps: 128_000 }],
  audio_bitrate_bps: 128_000,
  arrival: { rate_1s_bps: 1_740_000, rate_10s_bps: 1_740_000, jitter_ms: 1, longest_pause_ms: 0, largest_burst_ms: 0 },
  bitrate_bps: 1_740_000,
  unusable_count: 0,
  clock_fault_count: 0,
  recorder: "recording",
};

const viewers = { segments: 0, pictures: 0, stream: 0, rtmp: 0, srt: 0, total: 0 };

function channel(more: Partial<LiveChannel> = {}): LiveChannel {
  return { name: "finish-line", title: "Finish line", state: "on air", viewers, session, findings: [], legs: [leg("plovio", "carrying")], ...more };
}

function show(entry: LiveChannel): void {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter>
        <ChannelCard channel={entry} />
      </MemoryRouter>
    </QueryClientProvider>,
  );
}

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

describe("headline", () => {
  it.each([
    [{ onAir: 0, holding: 0, channels: 2, carrying: 0, wanted: 0 }, "Nothing is on air", undefined],
    [{ onAir: 1, holding: 0, channels: 2, carrying: 3, wanted: 3 }, "1 channel on air", "3 of 3 legs carry"],
    [{ onAir: 2, holding: 0, channels: 2, carrying: 1, wanted: 1 }, "2 channels on air", "1 of 1 leg carries"],
    [{ onAir: 1, holding: 0, channels: 1, carrying: 0, wanted: 0 }, "1 channel on air", "no destinations are on"],
    [{ onAir: 1, holding: 1, channels: 2, carrying: 2, wanted: 2 }, "1 channel waits for an encoder", "2 of 2 legs carry"],
    [{ onAir: 1, holding: 0, channels: 1, carrying: 2, wanted: 2, findings: 2 }, "1 channel on air", "2 of 2 legs carry · 2 findings"],
  ])("answers %o with “%s”", (summary, text, more) => {
    render(<Headline summary={{ findings: 0, hasAlarm: false, ...summary }} />);
    expect(screen.getByText(text)).toBeTruthy();
    if (more) expect(screen.getByText(more)).toBeTruthy();
  });
});

describe("channel card", () => {
  it("shows every track of sound, and pictures whose size nobody tells", () => {
    const audio = [
      { codec: "AAC", sample_rate_hz: 48_000, channel_count: 2, name: "Programme mix", language: "en", bitrate_bps: 128_000 },
      { codec: "Opus", sample_rate_hz: 48_000, channel_count: 1, name: null, language: "cy", bitrate_bps: 64_000 },
      { codec: "AC-3", sample_rate_hz: 48_000, channel_count: 6, bitrate_bps: 384_000 },
    ];
    const video = { ...picture, codec: "VP9", width: null, height: null };
    show(channel({ viewers: { ...viewers, srt: 2, total: 2 }, session: { ...session, audio, video } }));
    for (const text of ["Programme mix · en", "cy"]) expect(screen.getByText(text), text).toBeTruthy();
    for (const text of ["Sound 1", "Opus 48 kHz mono", "AC-3 48 kHz 6 ch", "not told", "VP9", "Viewers", "2"]) {
      expect(screen.getByText(text), text).toBeTruthy();
    }
  });

  it("shows what comes in and what goes out", () => {
    show(channel());
    for (const text of ["1.74", "30", "1280×720", "H.264 High", "up to 2.0 s", "AAC 48 kHz stereo", "128 kbit/s", "van"]) {
      expect(screen.getByText(text), text).toBeTruthy();
    }
    expect(screen.getByText("on air 2:05")).toBeTruthy();
    expect(screen.getByText("carrying 1:05")).toBeTruthy();
    expect(screen.getByText("1.74 Mbit/s")).toBeTruthy();
    expect(screen.getByText("12 ms")).toBeTruthy();
  });

  it("says why a leg does not carry", () => {
    const waiting = leg("tindrel", "waiting to redial", {
      reason: "the platform closed the connection",
      next_dial_in_ms: 3400,
      redial_count: 2,
    });
    show(channel({ legs: [waiting] }));
    expect(screen.getByText("the platform closed the connection. Next try in 4 s.")).toBeTruthy();
  });

  it("shows the last minute, the limits that are not kept, and what was dropped", () => {
    const slow = leg("tindrel", "carrying", {
      trace: [1_000_000, 2_000_000, 500_000],
      dropped_frame_count: 90,
      dropped_ms: 3000,
      behind_ms: 30_250,
      delay_ms: 30_000,
    });
    const over = finding("limit_bitrate", { cause: "the bitrate is 2.0 Mbit/s and it takes 1.0", destination: "tindrel", destinations: ["tindrel"] });
    show(channel({ legs: [slow], findings: [over] }));
    expect(screen.getByRole("img", { name: "Bitrate to tindrel over the last minute" })).toBeTruthy();
    const found = screen.getByRole("list", { name: "Findings" });
    for (const text of ["the bitrate is 2.0 Mbit/s and it takes 1.0", "tindrel", "set it to less"]) {
      expect(found.textContent).toContain(text);
    }
    expect(screen.getByText("90 (3.0 s)")).toBeTruthy();
    expect(screen.getByText("30.3 s").className).not.toContain("text-warning");
  });

  it("says that the slate is on, who waits, and when a leg starts", () => {
    const later = leg("quayside", "off", { reason: "it starts 60 s after the show", next_dial_in_ms: 12_400 });
    show(channel({ session: { ...session, is_slate_on: true, waiting: ["spare"] }, legs: [later] }));
    for (const text of ["encoder silent, slate is on", "spare", "it starts 60 s after the show. Starts in 13 s."]) {
      expect(screen.getByText(text), text).toBeTruthy();
    }
  });

  it("shows the line of an encoder that comes over SRT", () => {
    const line = {
      rtt_ms: 61.4,
      loss_share: 0.0512,
      retransmit_share: 0.0634,
      buffered_ms: 940,
      latency_ms: 1000,
      advised_latency_ms: 320,
      dropped_packet_count: 3,
      undecrypted_packet_count: 0,
      points: [
        { age_ms: 3000, rtt_ms: 60, loss_share: 0.04, dropped_packet_count: 0 },
        { age_ms: 500, rtt_ms: 61, loss_share: 0.06, dropped_packet_count: 3 },
      ],
    };
    show(channel({ session: { ...session, line } }));
    const shown = screen.getByRole("region", { name: "SRT line" });
    for (const text of ["5.12 %", "6.34 %", "61 ms", "940 of 1000 ms", "3"]) {
      expect(shown.textContent).toContain(text);
    }
  });

  it("names what the stream lacks", () => {
    const silent = { ...session, audio: [] };
    const known = finding("groups_open", { is_muted: true });
    show(channel({ session: silent, findings: [finding("not_carried", { advice: "set the encoder to AAC or Opus" }), known] }));
    expect(screen.getByText("none")).toBeTruthy();
    expect(screen.getByText(/set the encoder to AAC/)).toBeTruthy();
    expect(screen.getByText("groups open"), "what is muted is only named").toBeTruthy();
  });

  it("counts down while it holds", () => {
    show(channel({ state: "holding", session: { ...session, hold_left_ms: 7400 } }));
    expect(screen.getByText("holding, 0:07 left")).toBeTruthy();
  });

  it("shows an empty channel without numbers", () => {
    show(channel({ state: "off air", session: null, legs: [leg("plovio", "ready"), leg("tindrel", "off")] }));
    expect(screen.getByText("No encoder")).toBeTruthy();
    expect(screen.queryByText("Out")).toBeNull();
    expect(screen.getByLabelText<HTMLInputElement>("Send to plovio").checked).toBe(true);
    expect(screen.getByLabelText<HTMLInputElement>("Send to tindrel").checked).toBe(false);
  });
});

describe("a leg's switch", () => {
  const calls: Request[] = [];
  const reply = { body: "{}", status: 200 };

  beforeEach(() => {
    calls.length = 0;
    vi.stubGlobal("fetch", (request: Request) => {
      calls.push(request);
      // What the viewer may do is asked for as well.
      const isMe = request.url.endsWith("/me");
      const [body, status] = isMe ? [JSON.stringify({ name: "harbour", role: "operator", channels: [] }), 200] : [reply.body, reply.status];
      return Promise.resolve(new Response(body, { status, headers: { "content-type": "application/json" } }));
    });
  });

  it("asks the service to switch the destination", async () => {
    [reply.body, reply.status] = ["{}", 200];
    show(channel());
    fireEvent.click(screen.getByLabelText("Send to plovio"));
    const changes = () => calls.filter(({ method }) => method !== "GET");
    await waitFor(() => expect(changes()).toHaveLength(1));
    const [change] = changes();
    expect(change?.method).toBe("PUT");
    expect(change?.url).toBe(`${window.location.origin}/api/v1/channels/finish-line/destinations/plovio`);
    expect(await change?.json()).toEqual({ is_on: false });
  });

  it("shows why the service did not", async () => {
    const problem = { code: "database_away", detail: "The database does not answer.", next_step: "Try again." };
    [reply.body, reply.status] = [JSON.stringify(problem), 503];
    show(channel());
    fireEvent.click(screen.getByLabelText("Send to plovio"));
    expect(await screen.findByText("The database does not answer.")).toBeTruthy();
  });
});
