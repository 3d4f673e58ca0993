import { describe, expect, it } from "vitest";
import type { FigureSeries, Timelines } from "../api/types";
import { machinePlans, runs, showPlans, stateBars } from "./lines";

const series = (figure: string, of: string, mean: (number | null)[]): FigureSeries => ({ figure, of, unit: "kbit/s", mean, low: [], high: [] });

const timeline = (session: number | null, all: FigureSeries[]) => ({
  session,
  channel: "boathouse",
  began_at: "2026-05-17T09:00:00Z",
  length_s: 3,
  start_s: 0,
  count: 3,
  series: all,
  marks: [],
});

const told = (...timelines: ReturnType<typeof timeline>[]): Timelines => ({ step_s: 1, timelines });

describe("plots of a show", () => {
  it("draw what comes in and what goes out together, and nothing that there is not", () => {
    const plans = showPlans(told(timeline(7, [series("bitrate", "", [1, 2, 3]), series("leg_bitrate", "Tindrel", [1, null, 3]), series("viewers", "", [0, 0, 0]), series("loudness", "3", [null, null, null])])));
    expect(plans.map((plan) => [plan.title, plan.lines.map((line) => line.name)])).toEqual([["Bitrate", ["in", "Tindrel"]]]);
  });

  it("give a line of another show the colour of its like", () => {
    const [plan] = showPlans(told(timeline(7, [series("bitrate", "", [1]), series("leg_bitrate", "Tindrel", [1])]), timeline(9, [series("leg_bitrate", "Tindrel", [2])])));
    expect(plan?.lines.map((line) => [line.name, line.colour, line.isBeside])).toEqual([
      ["in", 0, false],
      ["Tindrel", 1, false],
      ["Tindrel, session 9", 1, true],
    ]);
  });

  it("leave interfaces out on which nothing goes", () => {
    const [plan] = machinePlans(told(timeline(null, [series("sent", "eth0", [5]), series("sent", "ifb0", [0])])));
    expect(plan?.lines.map((line) => line.name)).toEqual(["eth0 out"]);
  });
});

describe("states of destinations", () => {
  it("are runs of the same", () => {
    expect(runs([null, null, 1, 1, 0.4, 0])).toEqual([
      { from: 0, until: 2, state: "none" },
      { from: 2, until: 4, state: "carried" },
      { from: 4, until: 5, state: "partly" },
      { from: 5, until: 6, state: "lost" },
    ]);
    expect(stateBars(told(timeline(7, [series("leg_carrying", "Tindrel", [1])]))).map((bar) => bar.name)).toEqual(["Tindrel"]);
  });
});
