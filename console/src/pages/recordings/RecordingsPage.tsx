import { useOutletContext, useSearchParams } from "react-router";
import type { Live } from "../../api/live";
import type { TakeFilter } from "../../api/queries";
import { DiskNote } from "../../components/DiskNote";
import { size } from "../../lib/format";
import { dayBounds } from "../../lib/recording";
import { TakeList } from "./TakeList";

const STEP = 50;

/** The library: all takes, found by channel, day and length. What is chosen is in the address. */
export function RecordingsPage() {
  const { board } = useOutletContext<Live>();
  const [query, setQuery] = useSearchParams();
  const set = (name: string, value: string) =>
    setQuery((present) => {
      if (value) present.set(name, value);
      else present.delete(name);
      return present;
    });
  const value = (name: string) => query.get(name) ?? "";
  const limit = Number(value("limit")) || STEP;
  const filter: TakeFilter = {
    limit,
    ...(value("channel") && { channel: value("channel") }),
    ...(value("longer") && { min_ms: Number(value("longer")) * 60_000 }),
    ...(value("removed") && { removed: true }),
    ...dayBounds(value("day")),
  };
  return (
    <>
      <div className="mb-5 flex flex-wrap items-end justify-between gap-3">
        <div>
          <h1 className="text-2xl font-semibold tracking-tight">Recordings</h1>
          {board?.disk && <p className="text-sm text-base-content/70">{size(board.disk.free_bytes)} are free</p>}
        </div>
        <div className="flex flex-wrap items-end gap-3">
          <label className="text-sm">
            <span className="block">Channel</span>
            <select className="select select-sm mt-1 w-44" value={value("channel")} onChange={(event) => set("channel", event.target.value)}>
              <option value="">All</option>
              {board?.channels.map((channel) => (
                <option key={channel.name} value={channel.name}>
                  {channel.title}
                </option>
              ))}
            </select>
          </label>
          <label className="text-sm">
            <span className="block">Day</span>
            <input type="date" className="input input-sm mt-1 w-40" value={value("day")} onChange={(event) => set("day", event.target.value)} />
          </label>
          <label className="text-sm">
            <span className="block">At least, in minutes</span>
            <input type="number" min={0} className="input input-sm mt-1 w-32" value={value("longer")} onChange={(event) => set("longer", event.target.value)} />
          </label>
          <label className="flex h-8 items-center gap-2 text-sm">
            <input type="checkbox" className="checkbox checkbox-sm" checked={value("removed") !== ""} onChange={(event) => set("removed", event.target.checked ? "yes" : "")} />
            Removed
          </label>
        </div>
      </div>
      {board?.disk && <DiskNote disk={board.disk} />}
      <div className="panel overflow-hidden">
        <TakeList filter={filter} {...(limit < 500 && { onMore: () => set("limit", String(Math.min(500, limit + STEP))) })} />
      </div>
    </>
  );
}
