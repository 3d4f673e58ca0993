/** Colours for what is drawn on a canvas, which knows no classes. */
export type Ink = { text: string; faint: string; grid: string; mark: string; lines: string[]; font: string };

const font = '"Inter Variable", system-ui, sans-serif';

/** Which of the theme's colours lines have, in turn. */
const LINES = ["primary", "accent", "success", "info", "error", "secondary"];

/** The colour of a line beside text, which follows the theme, and paper, by itself. */
export const lineColour = (place: number) => `var(--color-${LINES[place % LINES.length]})`;

/** Daylight colours, whatever the screen shows. */
export const paper: Ink = {
  text: "#17292f",
  faint: "#55656b",
  grid: "#e4e1d6",
  mark: "#a8650a",
  lines: ["#0f4c5c", "#b86f12", "#177a61", "#2b6f93", "#ae322b", "#5b7079"],
  font,
};

/** Colours of the theme that is shown. */
export function screen(): Ink {
  const style = getComputedStyle(document.documentElement);
  const of = (name: string, otherwise: string) => style.getPropertyValue(`--color-${name}`).trim() || otherwise;
  const text = of("base-content", paper.text);
  return {
    text,
    faint: `color-mix(in srgb, ${text} 68%, transparent)`,
    grid: of("base-300", paper.grid),
    mark: of("warning", paper.mark),
    lines: LINES.map((name, place) => of(name, paper.lines[place] ?? paper.text)),
    font,
  };
}

