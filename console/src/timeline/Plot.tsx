import { useEffect, useRef, useState } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { lineColour, paper, screen, type Ink } from "./ink";
import type { Line, PlotPlan } from "./lines";

/** Room for the scale at the left, the same for all plots, so that their times stand under each other. */
export const GUTTER = 58;

const HEIGHT = 132;

/** On paper there is no window to be as wide as. */
const PAPER_WIDTH = 680;

type Props = {
  plan: PlotPlan;
  /** The time of each point, in seconds. */
  times: number[];
  /** From and until, in seconds. */
  range: readonly [number, number];
  /** How a time is written. */
  tell: (second: number) => string;
  /** Moments at which something was found, in seconds. */
  marks: number[];
  onZoom: (from: number, until: number) => void;
};

const short = (value: number) => (Math.abs(value) >= 10_000 ? `${Math.round(value / 100) / 10}k` : String(Math.round(value * 100) / 100));

function options({ plan, range, tell, marks, onZoom }: Props, ink: Ink, width: number, onPoint: (place: number | null) => void): uPlot.Options {
  const scale = { font: `11px ${ink.font}`, stroke: ink.faint, ticks: { show: false }, grid: { stroke: ink.grid, width: 1 } };
  const colour = (line: Line) => ink.lines[line.colour % ink.lines.length] ?? ink.text;
  // Of each line its lowest and highest stand before it, and the room between them is filled.
  const series = plan.lines.flatMap((line): uPlot.Series[] => [
    { stroke: "transparent", points: { show: false } },
    { stroke: "transparent", points: { show: false } },
    { stroke: colour(line), width: 1.5, dash: line.isBeside ? [5, 4] : [], points: { show: false } },
  ]);
  const bands = plan.lines.map((line, place): uPlot.Band => ({ series: [place * 3 + 2, place * 3 + 1], fill: `color-mix(in srgb, ${colour(line)} 16%, transparent)` }));
  return {
    width,
    height: HEIGHT,
    padding: [8, 12, 0, 0],
    legend: { show: false },
    cursor: { sync: { key: "timeline" }, drag: { x: true, y: false, setScale: false }, y: false },
    scales: {
      x: { time: false, range: () => [range[0], range[1]] },
      y: { range: (_, low, high) => yRange(low, high, plan.floor) },
    },
    axes: [
      { ...scale, size: 26, values: (_, ticks) => ticks.map(tell), incrs: [1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200, 14_400, 21_600, 43_200, 86_400], space: 90 },
      { ...scale, size: GUTTER, values: (_, ticks) => ticks.map(short), space: 26 },
    ],
    series: [{}, ...series],
    bands,
    hooks: {
      setCursor: [(plot) => onPoint(plot.cursor.idx ?? null)],
      setSelect: [
        (plot) => {
          const { left, width: selected } = plot.select;
          if (selected > 4) onZoom(plot.posToVal(left, "x"), plot.posToVal(left + selected, "x"));
          plot.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
        },
      ],
      drawClear: [(plot) => drawMarks(plot, marks, ink)],
    },
  };
}

function yRange(low: number | null, high: number | null, floor: number | undefined): [number, number] {
  if (low === null || high === null) return [floor ?? 0, (floor ?? 0) + 1];
  const room = Math.max((high - (floor ?? low)) * 0.08, 0.5);
  return [floor ?? low - room, high + room];
}

function drawMarks(plot: uPlot, marks: number[], ink: Ink) {
  const { ctx, bbox } = plot;
  ctx.save();
  ctx.strokeStyle = ink.mark;
  ctx.lineWidth = devicePixelRatio;
  ctx.setLineDash([3 * devicePixelRatio, 3 * devicePixelRatio]);
  for (const mark of marks) {
    const x = Math.round(plot.valToPos(mark, "x", true));
    if (x < bbox.left || x > bbox.left + bbox.width) continue;
    ctx.beginPath();
    ctx.moveTo(x, bbox.top);
    ctx.lineTo(x, bbox.top + bbox.height);
    ctx.stroke();
  }
  ctx.restore();
}

const data = (times: number[], lines: Line[]): uPlot.AlignedData => [
  times,
  ...lines.flatMap((line) => {
    const none = times.map(() => null);
    return [line.low.length > 0 ? line.low : none, line.high.length > 0 ? line.high : none, line.mean];
  }),
];

/** The value under the cursor, or the newest. */
function Key({ line, place }: { line: Line; place: number | null }) {
  const newest = () => line.mean.findLast((value) => value !== null);
  const value = place === null ? newest() : line.mean[place];
  return (
    <li className="flex items-center gap-1.5">
      <span aria-hidden className={`w-4 border-t-2 ${line.isBeside ? "border-dashed" : ""}`} style={{ borderColor: lineColour(line.colour) }} />
      {line.name}
      <span className="min-w-12 font-mono text-base-content/75 print:hidden">{value === null || value === undefined ? "–" : short(value)}</span>
    </li>
  );
}

/** One figure, or a few of the same unit, over time. Dragging over it looks closer. */
export function Plot(props: Props) {
  const { plan, times, range } = props;
  const host = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  const [ink, setInk] = useState<Ink>(screen);
  const [place, setPlace] = useState<number | null>(null);
  useEffect(() => {
    const box = host.current;
    if (!box) return;
    const follow = new ResizeObserver(() => setWidth(box.clientWidth));
    follow.observe(box);
    const themes = new MutationObserver(() => setInk(screen()));
    themes.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
    const dark = matchMedia("(prefers-color-scheme: dark)");
    const redraw = () => setInk(screen());
    dark.addEventListener("change", redraw);
    return () => {
      follow.disconnect();
      themes.disconnect();
      dark.removeEventListener("change", redraw);
    };
  }, []);
  useEffect(() => {
    const box = host.current;
    if (!box || width === 0) return;
    const draw = (with_: Ink, wide: number) => new uPlot(options(props, with_, wide, setPlace), data(times, plan.lines), box);
    const isPaper = matchMedia("print").matches;
    let plot = draw(isPaper ? paper : ink, isPaper ? PAPER_WIDTH : width);
    const again = (with_: Ink, wide: number) => {
      plot.destroy();
      plot = draw(with_, wide);
    };
    const toPaper = () => again(paper, PAPER_WIDTH);
    const toScreen = () => again(ink, width);
    addEventListener("beforeprint", toPaper);
    addEventListener("afterprint", toScreen);
    return () => {
      removeEventListener("beforeprint", toPaper);
      removeEventListener("afterprint", toScreen);
      plot.destroy();
    };
    // What is drawn is made anew when it changes; who calls on zooming is not drawn.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [plan, times, range[0], range[1], props.marks, ink, width]);
  return (
    <figure className="break-inside-avoid" aria-label={`${plan.title} over time`}>
      <figcaption className="flex flex-wrap items-baseline gap-x-5 gap-y-1 text-sm" style={{ paddingLeft: GUTTER }}>
        <span className="font-medium">
          {plan.title} {plan.unit && <span className="font-normal text-base-content/65">{plan.unit}</span>}
        </span>
        <ul className="flex flex-wrap gap-x-4 gap-y-1 text-xs">
          {plan.lines.map((line) => (
            <Key key={line.name} line={line} place={place} />
          ))}
        </ul>
      </figcaption>
      <div ref={host} style={{ minHeight: HEIGHT }} />
    </figure>
  );
}
