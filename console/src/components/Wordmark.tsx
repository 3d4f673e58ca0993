/** The mark and the name; `isShort` leaves the name out on narrow screens. */
export function Wordmark({ isShort = false }: { isShort?: boolean }) {
  return (
    <span className="flex items-center gap-2.5">
      <img src="/mark.svg" alt="" className="size-7" />
      <span className={`text-lg font-semibold tracking-tight ${isShort ? "hidden sm:inline" : ""}`}>Waverant</span>
    </span>
  );
}
