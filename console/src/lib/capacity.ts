import type { ResourceAnswer } from "../api/types";
import { bitrate, size } from "./format";

/** An amount of a resource, in the unit that people read. */
export function amount(unit: string, value: number | null | undefined): string {
  if (value === null || value === undefined) return "not known";
  if (unit === "bps") return bitrate(value);
  return unit === "bytes" ? size(value) : value.toFixed(2);
}

const VERDICTS: Record<ResourceAnswer["verdict"], string> = {
  enough: "enough",
  tight: "tight",
  too_little: "too little",
  not_known: "not known",
};

export function verdict(word: ResourceAnswer["verdict"]): string {
  return VERDICTS[word];
}
