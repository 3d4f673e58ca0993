import type { AddressScope, DoorVerdict, TryOutcome } from "../../api/types";

export const SCOPES: Record<AddressScope, string> = {
  public: "public",
  private: "private: from your own net",
  shared: "the provider's own net: a router of the provider has the public one",
  link: "from the next cable only",
  loopback: "from this machine",
};

/** What a verdict is called, and how it is coloured; the word says it without the colour. */
export const VERDICTS: Record<DoorVerdict, { word: string; tone: string }> = {
  reached: { word: "reached", tone: "badge-success" },
  open: { word: "open", tone: "badge-info" },
  shut: { word: "shut", tone: "badge-error" },
  inside: { word: "this machine only", tone: "badge-ghost" },
  unclear: { word: "not known", tone: "badge-warning" },
};

export const OUTCOMES: Record<TryOutcome, string> = {
  answered: "answered",
  refused: "turned down",
  silent: "no answer",
  unreachable: "no way there",
};

/** What a door is for. */
export const PURPOSES: Record<string, string> = {
  rtmp: "encoders, RTMP",
  rtmps: "encoders, RTMPS",
  srt: "encoders and players, SRT",
  viewing: "viewers",
  viewing_https: "viewers, TLS",
  http: "console",
  https: "console, TLS",
  redirect: "leads to TLS",
};
