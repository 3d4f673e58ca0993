import { useEffect, useState } from "react";
import type { Board } from "./types";
import { inApi } from "./place";

/** The newest board, and whether the line to the service stands. */
export type Live = { board: Board | undefined; isConnected: boolean };

/** Follows the live state; the browser reconnects by itself. */
export function useLive(): Live {
  const [live, setLive] = useState<Live>({ board: undefined, isConnected: true });
  useEffect(() => {
    const source = new EventSource(inApi("/live/events"));
    source.addEventListener("board", (event) => {
      setLive({ board: JSON.parse(event.data) as Board, isConnected: true });
    });
    source.onerror = () => setLive((last) => ({ ...last, isConnected: false }));
    return () => source.close();
  }, []);
  return live;
}
