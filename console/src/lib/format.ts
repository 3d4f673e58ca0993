/** One formatter per unit; numbers and units are kept apart where a column names the unit. */

export function megabits(bitsPerSecond: number): string {
  return (bitsPerSecond / 1e6).toFixed(bitsPerSecond >= 1e7 ? 1 : 2);
}

export function bitrate(bitsPerSecond: number): string {
  return bitsPerSecond < 1e6
    ? `${Math.round(bitsPerSecond / 1e3)} kbit/s`
    : `${megabits(bitsPerSecond)} Mbit/s`;
}

export function size(bytes: number): string {
  if (bytes < 1e6) return `${Math.round(bytes / 1e3)} kB`;
  if (bytes < 1e9) return `${(bytes / 1e6).toFixed(1)} MB`;
  return `${(bytes / 1e9).toFixed(2)} GB`;
}

const twoDigits = (value: number) => String(value).padStart(2, "0");

/** A running clock: 4:07, 1:02:33. */
export function clock(milliseconds: number): string {
  const whole = Math.max(0, Math.floor(milliseconds / 1000));
  const [hours, minutes, seconds] = [Math.floor(whole / 3600), Math.floor(whole / 60) % 60, whole % 60];
  return hours > 0 ? `${hours}:${twoDigits(minutes)}:${twoDigits(seconds)}` : `${minutes}:${twoDigits(seconds)}`;
}

/** Seconds with one digit, for short spans. */
export function seconds(milliseconds: number): string {
  return `${(milliseconds / 1000).toFixed(1)} s`;
}

/** A delay: milliseconds while it is short. */
export function span(milliseconds: number): string {
  return milliseconds < 1000 ? `${Math.round(milliseconds)} ms` : seconds(milliseconds);
}

/** Pictures that were dropped, and how much of the show they were. */
export function dropped(leg: { dropped_frame_count: number; dropped_ms: number }): string {
  return leg.dropped_frame_count === 0 ? "0" : `${leg.dropped_frame_count} (${seconds(leg.dropped_ms)})`;
}

/** Date and time where the viewer is. */
export function moment(text: string): string {
  const time = new Date(text);
  const date = `${time.getFullYear()}-${twoDigits(time.getMonth() + 1)}-${twoDigits(time.getDate())}`;
  return `${date} ${twoDigits(time.getHours())}:${twoDigits(time.getMinutes())}:${twoDigits(time.getSeconds())}`;
}

export function count(number: number, one: string, many: string): string {
  return `${number} ${number === 1 ? one : many}`;
}

/** How long something has been so, in the largest unit that fits. */
export function ago(since: string, now = Date.now()): string {
  const seconds = Math.max(0, Math.round((now - Date.parse(since)) / 1000));
  if (seconds < 60) return `for ${seconds} s`;
  if (seconds < 3600) return `for ${Math.floor(seconds / 60)} min`;
  return `for ${Math.floor(seconds / 3600)} h ${Math.floor((seconds % 3600) / 60)} min`;
}
