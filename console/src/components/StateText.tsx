import type { Tone } from "../lib/state";
import { Lamp } from "./Lamp";

const COLOURS: Record<Tone, string> = {
  good: "text-success",
  trouble: "text-warning",
  bad: "text-error",
  idle: "text-base-content/60",
};

export function StateText({ tone, children }: { tone: Tone; children: string }) {
  return (
    <span className={`inline-flex items-center gap-2 whitespace-nowrap font-medium ${COLOURS[tone]}`}>
      <Lamp tone={tone} />
      {children}
    </span>
  );
}
