/** What is drawn of timelines: which figures go together, and what each line is called. */
import type { FigureSeries, Timelines } from "../api/types";

export type Line = {
  name: string;
  unit: string;
  /** Which colour of the palette. */
  colour: number;
  /** True for the show that is laid over. */
  isBeside: boolean;
  mean: (number | null)[];
  low: (number | null)[];
  high: (number | null)[];
};

export type PlotPlan = {
  title: string;
  unit: string;
  lines: Line[];
  floor?: number;
  /** True if all that could be drawn is 0. */
  isFlat: boolean;
};

/** A state bar: what a destination did in each step; null where it was not to get anything. */
export type StateBar = { name: string; isBeside: boolean; carried: (number | null)[] };

type Wanted = { figure: string; name: (of: string) => string };

const named = (text: string): Wanted["name"] => (of) => (of === "" ? text : of);

/** The plots of a show, from what comes in to what goes out. */
const SHOW: { title: string; floor?: number; of: Wanted[] }[] = [
  {
    title: "Bitrate",
    floor: 0,
    of: [
      { figure: "bitrate", name: () => "in" },
      { figure: "leg_bitrate", name: named("out") },
    ],
  },
  {
    title: "Loss",
    floor: 0,
    of: [
      { figure: "line_loss", name: () => "in" },
      { figure: "leg_loss", name: named("out") },
    ],
  },
  {
    title: "Buffer",
    floor: 0,
    of: [
      { figure: "line_buffer", name: () => "in" },
      { figure: "leg_behind", name: named("out") },
    ],
  },
  { title: "Loudness", of: [{ figure: "loudness", name: (of) => `track ${of}` }] },
  { title: "Viewers", floor: 0, of: [{ figure: "viewers", name: () => "viewers" }] },
];

const MACHINE: { title: string; floor?: number; of: Wanted[] }[] = [
  {
    title: "Processors",
    floor: 0,
    of: [
      { figure: "processor", name: () => "all" },
      { figure: "service_processor", name: () => "service, of one" },
      { figure: "database_processor", name: () => "database, of one" },
    ],
  },
  { title: "Memory", floor: 0, of: [{ figure: "memory", name: () => "used" }] },
  {
    title: "Network",
    floor: 0,
    of: [
      { figure: "received", name: (of) => `${of} in` },
      { figure: "sent", name: (of) => `${of} out` },
    ],
  },
  {
    title: "Writes",
    floor: 0,
    of: [
      { figure: "disk_write", name: () => "disk" },
      { figure: "database_write", name: () => "database" },
    ],
  },
];

const hasAny = (series: FigureSeries) => series.mean.some((value) => value !== null);

function plans(told: Timelines, groups: typeof SHOW): PlotPlan[] {
  return groups.flatMap(({ title, floor, of }) => {
    const names: string[] = [];
    const lines = told.timelines.flatMap((timeline, place) =>
      of.flatMap(({ figure, name }) =>
        timeline.series
          .filter((series) => series.figure === figure && hasAny(series))
          .map((series): Line => {
            const own = name(series.of);
            if (!names.includes(own)) names.push(own);
            const { unit, mean, low, high } = series;
            return { name: place === 0 ? own : `${own}, session ${timeline.session}`, unit, colour: names.indexOf(own), isBeside: place > 0, mean, low, high };
          }),
      ),
    );
    // Nobody watching is nothing to draw, nor is an interface on which nothing goes.
    const isFlat = (line: Line) => line.mean.every((value) => !value);
    const shown = title === "Viewers" || title === "Network" ? lines.filter((line) => !isFlat(line)) : lines;
    return shown.length === 0 ? [] : [{ title, unit: shown[0]?.unit ?? "", lines: shown, floor, isFlat: floor === 0 && shown.every(isFlat) }];
  });
}

export const showPlans = (told: Timelines) => plans(told, SHOW);

export const machinePlans = (told: Timelines) => plans(told, MACHINE);

export function stateBars(told: Timelines): StateBar[] {
  return told.timelines.flatMap((timeline, place) =>
    timeline.series
      .filter((series) => series.figure === "leg_carrying")
      .map((series) => ({
        name: place === 0 ? series.of : `${series.of}, session ${timeline.session}`,
        isBeside: place > 0,
        carried: series.mean,
      })),
  );
}

/** Steps in a row in which the same was so. */
export function runs(carried: (number | null)[]): { from: number; until: number; state: "none" | "carried" | "partly" | "lost" }[] {
  const state = (value: number | null) => (value === null ? "none" : value >= 0.99 ? "carried" : value > 0.01 ? "partly" : "lost");
  const found: ReturnType<typeof runs> = [];
  carried.forEach((value, place) => {
    const last = found.at(-1);
    if (last && last.state === state(value)) last.until = place + 1;
    else found.push({ from: place, until: place + 1, state: state(value) });
  });
  return found;
}
