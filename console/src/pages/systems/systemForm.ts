import type { HouseSystemRules, UnknownKeys, WhenSilent } from "../../api/types";
import { fieldText } from "../../components/Field";

export const UNKNOWN_KEYS = [
  ["not_asked", "Turn them away without asking"],
  ["prefix", "Tell their first characters"],
  ["digest", "Tell a keyed hash of them"],
  ["whole", "Tell the key itself (TLS or this machine)"],
] as const;

export const WHEN_SILENT = [
  ["closed", "Nobody"],
  ["known_keys", "Whoever has a key that is known here"],
] as const;

/** About whom it is asked, as one choice. */
export const ABOUT = [
  ["publishers", "Publishers"],
  ["players", "Players with a viewing key"],
  ["both", "Both"],
] as const;

export function aboutOf(rules: Pick<HouseSystemRules, "publishers" | "players">): string {
  if (rules.players) return rules.publishers ? "both" : "players";
  return "publishers";
}

/** What a form says of how a system is asked. */
export function rulesIn(form: HTMLFormElement): HouseSystemRules {
  const about = fieldText(form, "about");
  const again = Number(fieldText(form, "again"));
  return {
    address: fieldText(form, "address"),
    is_on: form.querySelector<HTMLInputElement>("[name=is_on]")?.checked ?? true,
    publishers: about !== "players",
    players: about !== "publishers",
    unknown_keys: (fieldText(form, "unknown_keys") || "not_asked") as UnknownKeys,
    when_silent: fieldText(form, "when_silent") as WhenSilent,
    time_limit_ms: Math.round(Number(fieldText(form, "time_limit")) * 1000),
    retries: Number(fieldText(form, "retries")),
    again_s: again > 0 ? Math.round(again * 60) : null,
  };
}

/** JSON as it is read best; anything else as it came. */
export function legible(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}
