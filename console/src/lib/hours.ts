/** Windows of a week, as the relay writes them: `mon-fri 08:00-18:00`. */

export const DAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const;

export type Window = { days: boolean[]; from: string; until: string };

export function emptyWindow(): Window {
  return { days: DAYS.map((_, day) => day < 5), from: "08:00", until: "18:00" };
}

/** A window as the relay told it. */
export function readWindow(text: string): Window {
  const [names = "", hours = ""] = text.split(" ");
  const [from = "", until = ""] = hours.split("-");
  const place = (name: string) => DAYS.findIndex((day) => day === name);
  const days = DAYS.map(() => false);
  for (const part of names.split(",")) {
    const [first = "", last = first] = part.split("-");
    for (let day = place(first); day >= 0 && day <= place(last); day++) days[day] = true;
  }
  // A field for a time of the day knows no end of it.
  return { days, from, until: until === "24:00" ? "00:00" : until };
}

/** A window as the relay takes it; none if no day is chosen. */
export function writeWindow({ days, from, until }: Window): string | undefined {
  const names = DAYS.filter((_, day) => days[day]);
  if (names.length === 0) return undefined;
  return `${names.join(",")} ${from}-${until === "00:00" ? "24:00" : until}`;
}

/** The zone of whoever looks. */
export function ownZone(): string {
  return Intl.DateTimeFormat().resolvedOptions().timeZone;
}

export function allZones(): string[] {
  return ["UTC", ...Intl.supportedValuesOf("timeZone")];
}
