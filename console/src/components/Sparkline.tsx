const WIDTH = 96;
const HEIGHT = 26;

/** The last minute of a rate: a filled line, the newest at the right. */
export function Sparkline({ values, label }: { values: number[]; label: string }) {
  const most = Math.max(...values, 1);
  const step = WIDTH / 59;
  const first = WIDTH - (values.length - 1) * step;
  const points = values.map((value, place) => {
    const x = first + place * step;
    const y = HEIGHT - 2 - (value / most) * (HEIGHT - 4);
    return `${x.toFixed(1)} ${y.toFixed(1)}`;
  });
  if (points.length < 2) return <span className="inline-block" style={{ width: WIDTH, height: HEIGHT }} />;
  const line = `M${points.join(" L")}`;
  return (
    <svg width={WIDTH} height={HEIGHT} viewBox={`0 0 ${WIDTH} ${HEIGHT}`} role="img" aria-label={label}>
      <path d={`${line} L${WIDTH} ${HEIGHT} L${first.toFixed(1)} ${HEIGHT} Z`} className="fill-primary/15" />
      <path d={line} className="fill-none stroke-primary" strokeWidth={1.5} strokeLinejoin="round" />
    </svg>
  );
}
