/** The quietest level that is drawn, in dBFS. */
const FLOOR = -60;

/** Where a level lies on the bar, in percent. */
export function place(level: number | null | undefined): number {
  if (level === null || level === undefined) return 0;
  return Math.max(0, Math.min(100, ((level - FLOOR) / -FLOOR) * 100));
}
