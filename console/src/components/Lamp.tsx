import type { Tone } from "../lib/state";

const COLOURS: Record<Tone, string> = {
  good: "bg-success",
  trouble: "bg-warning",
  bad: "bg-error",
  idle: "bg-base-content/25",
};

/** A small light; the words beside it say the same. */
export function Lamp({ tone, large = false }: { tone: Tone; large?: boolean }) {
  const glow = tone === "good" ? "ring-4 ring-success/20" : "";
  return <span aria-hidden className={`inline-block shrink-0 rounded-full ${large ? "size-3" : "size-2.5"} ${COLOURS[tone]} ${glow}`} />;
}
