const DAY = 86_400_000;
const HOUR = 3_600_000;

/** How long something is good that ends then, in words. */
export function leftText(ends: string, now: number): string {
  const left = Date.parse(ends) - now;
  if (left <= 0) return "it has ended";
  if (left < 2 * HOUR) return `${Math.ceil(left / 60_000)} min are left`;
  if (left < 2 * DAY) return `${Math.floor(left / HOUR)} h are left`;
  return `${Math.floor(left / DAY)} days are left`;
}
