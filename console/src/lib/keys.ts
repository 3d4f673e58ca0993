import type { EncoderFields, KeyRules, StreamKey } from "../api/types";
import { moment } from "./format";
import type { Tone } from "./state";

/** Whether a key opens now, and when that changes. */
export function keyState(key: Pick<StreamKey, "state" | "turns_at"> & { retired?: StreamKey["retired"] }): { tone: Tone; text: string } {
  const turn = key.turns_at ? moment(key.turns_at) : undefined;
  switch (key.state) {
    case "open":
      return { tone: "good", text: turn ? `opens until ${turn}` : "opens" };
    case "early":
    case "out_of_hours":
      return turn ? { tone: "trouble", text: `opens at ${turn}` } : { tone: "idle", text: "does not open any more" };
    case "expired":
      return { tone: "idle", text: "its time is over" };
    case "retired":
      return { tone: "idle", text: key.retired ? `retired ${moment(key.retired.at)}` : "retired" };
  }
}

/** What binds a key, piece by piece. */
export function keyRules(rules: KeyRules): string[] {
  const told: string[] = [];
  if (rules.hours) told.push(`${rules.hours.windows.join(", ")} (${rules.hours.zone})`);
  if (rules.allowed_from?.length) told.push(`only from ${rules.allowed_from.join(", ")}`);
  if (rules.protocols?.length) told.push(`only over ${rules.protocols.map((protocol) => protocol.toUpperCase()).join(", ")}`);
  if (rules.most_connections) told.push(rules.most_connections === 1 ? "one at a time" : `${rules.most_connections} at a time`);
  if (rules.show_when_over === "goes_on") told.push("its show goes on when its time is over");
  return told;
}

/** What a QR code can hold, the handiest first. */
export function qrChoices(fields: EncoderFields): { label: string; value: string }[] {
  const choices = [
    { label: "Address and key in one", value: fields.whole },
    { label: "The same for SRT", value: fields.srt.whole },
    { label: "Server alone", value: fields.server },
    { label: "Key alone", value: fields.key },
    { label: "SRT address alone", value: fields.srt.address },
  ];
  if (fields.secure_whole) choices.splice(1, 0, { label: "The same for RTMP over TLS", value: fields.secure_whole });
  if (fields.srt.passphrase) choices.push({ label: "Passphrase alone", value: fields.srt.passphrase });
  return choices;
}

/** What a field for a moment holds, and what it is told as. */
export function asMoment(field: string): string | null {
  return field ? new Date(field).toISOString() : null;
}

/** A moment for such a field, in the zone of whoever looks. */
export function asField(moment: string | null | undefined): string {
  if (!moment) return "";
  const time = new Date(moment);
  return new Date(time.getTime() - time.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}
