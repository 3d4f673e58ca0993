import { Plus, Trash2 } from "lucide-react";
import { useId } from "react";
import type { OpenHours } from "../../../api/types";
import { DAYS, allZones, emptyWindow, ownZone, readWindow, type Window, writeWindow } from "../../../lib/hours";

export type Hours = { zone: string; windows: Window[] };

export function readHours(hours: OpenHours | null | undefined): Hours {
  return { zone: hours?.zone ?? ownZone(), windows: hours?.windows.map(readWindow) ?? [] };
}

/** None if there is no window: all hours then. */
export function writeHours({ zone, windows }: Hours): OpenHours | null {
  const written = windows.map(writeWindow).filter((window) => window !== undefined);
  return written.length > 0 ? { zone, windows: written } : null;
}

/** The hours of a week at which a key opens. */
export function HoursFields({ hours, onChange }: { hours: Hours; onChange: (hours: Hours) => void }) {
  const zones = useId();
  const setWindow = (place: number, change: Partial<Window>) =>
    onChange({ ...hours, windows: hours.windows.map((window, at) => (at === place ? { ...window, ...change } : window)) });
  return (
    <fieldset>
      <legend className="text-sm font-medium">Opens at</legend>
      {hours.windows.length === 0 && <p className="mt-1 text-sm text-base-content/65">All hours of all days.</p>}
      <ul className="space-y-2">
        {hours.windows.map((window, place) => (
          <li key={place} className="mt-2 flex flex-wrap items-center gap-x-3 gap-y-2">
            <div className="join" role="group" aria-label={`Days of window ${place + 1}`}>
              {DAYS.map((day, at) => (
                <input
                  key={day}
                  type="checkbox"
                  className="btn btn-xs join-item"
                  aria-label={day}
                  checked={window.days[at] ?? false}
                  onChange={(event) => setWindow(place, { days: window.days.map((is, of) => (of === at ? event.target.checked : is)) })}
                />
              ))}
            </div>
            <span className="flex items-center gap-1">
              <input type="time" className="input input-sm w-28" aria-label={`Window ${place + 1} from`} required value={window.from} onChange={(event) => setWindow(place, { from: event.target.value })} />
              –
              <input type="time" className="input input-sm w-28" aria-label={`Window ${place + 1} until`} required value={window.until} onChange={(event) => setWindow(place, { until: event.target.value })} />
              <button
                type="button"
                className="btn btn-ghost btn-square btn-sm"
                aria-label={`Take window ${place + 1} away`}
                onClick={() => onChange({ ...hours, windows: hours.windows.filter((_, at) => at !== place) })}
              >
                <Trash2 className="size-4" />
              </button>
            </span>
          </li>
        ))}
      </ul>
      <div className="mt-2 flex flex-wrap items-center gap-3">
        <button type="button" className="btn btn-sm" onClick={() => onChange({ ...hours, windows: [...hours.windows, emptyWindow()] })}>
          <Plus className="size-4" /> Add hours
        </button>
        {hours.windows.length > 0 && (
          <label className="flex items-center gap-2 text-sm">
            Time zone
            <input className="input input-sm w-48" list={zones} required value={hours.zone} onChange={(event) => onChange({ ...hours, zone: event.target.value })} />
            <datalist id={zones}>
              {allZones().map((zone) => (
                <option key={zone} value={zone} />
              ))}
            </datalist>
          </label>
        )}
      </div>
    </fieldset>
  );
}
