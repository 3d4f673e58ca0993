import type { Recording } from "../api/types";
import { clock, size } from "./format";
import { inApi } from "../api/place";

/** A channel's rules for its recordings in one line. */
export function recordingRule(rules: Recording): string {
  if (rules.when === "off") return "does not record";
  const parts = [rules.when === "always" ? "records every session" : "records when started by hand"];
  parts.push(`as ${rules.format === "mp4" ? "MP4" : "Matroska"}`);
  if (rules.split_ms > 0) parts.push(`split every ${clock(rules.split_ms)}`);
  if (rules.split_bytes > 0) parts.push(`split at ${size(rules.split_bytes)}`);
  if (rules.keep_s > 0) parts.push(`kept ${days(rules.keep_s)}`);
  if (rules.depot) parts.push(`${rules.removes_copied ? "moved" : "copied"} to ${rules.depot}`);
  return parts.join(", ");
}

function days(seconds: number): string {
  const value = Math.round((seconds / 86_400) * 10) / 10;
  return value === 1 ? "1 day" : `${value} days`;
}

/** A take as a player gets it: browsers play MP4 everywhere, Matroska only here and there. */
export function playable(take: { session: number; number: number; path: string }): string {
  return `${takePath(take)}/${take.path.endsWith(".mkv") ? "mp4" : "file"}`;
}

export function takePath(take: { session: number; number: number }): string {
  return inApi(`/takes/${take.session}/${take.number}`);
}

export function fileName(path: string): string {
  return path.slice(path.lastIndexOf("/") + 1);
}

/** The begin of a day where the viewer is, and of the next one. */
export function dayBounds(day: string): { from: string; until: string } | undefined {
  const begin = new Date(`${day}T00:00:00`);
  if (Number.isNaN(begin.getTime())) return undefined;
  const end = new Date(begin);
  end.setDate(end.getDate() + 1);
  return { from: begin.toISOString(), until: end.toISOString() };
}
