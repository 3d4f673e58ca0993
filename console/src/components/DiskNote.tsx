import { HardDrive } from "lucide-react";
import type { LiveDisk } from "../api/types";
import { clock, size } from "../lib/format";

/** Says in time that the disk of the recordings will be full. */
export function DiskNote({ disk }: { disk: LiveDisk }) {
  if (!disk.is_low) return null;
  const left = disk.seconds_left;
  const text =
    left === undefined || left === null || left === 0
      ? "The disk of the recordings is full. Recordings go on by themselves when there is room."
      : `At this bitrate the disk of the recordings is full in ${clock(left * 1000)} hours.`;
  return (
    <p role="alert" className="mb-4 flex items-center gap-2 rounded-box border border-warning/50 bg-warning/15 px-4 py-2 text-sm">
      <HardDrive aria-hidden className="size-4 shrink-0" />
      {text} {size(disk.free_bytes)} are free, {size(disk.floor_bytes)} stay free.
    </p>
  );
}
