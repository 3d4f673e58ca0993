import { useMemo } from "react";
import type { Timelines } from "../api/types";
import { machinePlans, showPlans, stateBars } from "./lines";
import { MarkLane } from "./MarkLane";
import { GUTTER, Plot } from "./Plot";
import { States } from "./States";

type Props = {
  told: Timelines;
  /** From and until that are shown, in seconds. */
  range: readonly [number, number];
  /** Added to all seconds: 0 for a show, when it began for times of day. */
  origin: number;
  tell: (second: number) => string;
  onZoom: (from: number, until: number) => void;
};

/** All plots of timelines, on one axis of time. */
export function Figures({ told, range, origin, tell, onZoom }: Props) {
  const first = told.timelines[0];
  const times = useMemo(() => Array.from({ length: first?.count ?? 0 }, (_, place) => origin + (first?.start_s ?? 0) + place * told.step_s), [first, told.step_s, origin]);
  const plans = useMemo(() => (first?.session ? showPlans(told) : machinePlans(told)), [told, first]);
  const bars = useMemo(() => stateBars(told), [told]);
  const marks = useMemo(() => (first?.marks ?? []).filter((mark) => mark.code).map((mark) => origin + mark.at_ms / 1000), [first, origin]);
  if (!first) return null;
  const closer = (from: number, until: number) => onZoom(Math.max(0, Math.floor(from - origin)), Math.ceil(until - origin));
  return (
    <div className="space-y-3 print:max-w-[680px]">
      <MarkLane marks={first.marks} range={range} tell={tell} origin={origin} onZoom={closer} />
      {bars.length > 0 && <States bars={bars} start={origin + first.start_s} step={told.step_s} range={range} tell={tell} />}
      {plans.map((plan) =>
        plan.isFlat ? (
          <p key={plan.title} className="text-sm" style={{ paddingLeft: GUTTER }}>
            <span className="font-medium">{plan.title}</span> <span className="text-base-content/65">none</span>
          </p>
        ) : (
          <Plot key={plan.title} plan={plan} times={times} range={range} tell={tell} marks={marks} onZoom={closer} />
        ),
      )}
    </div>
  );
}
