import { Eye, EyeOff } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { LiveVideo } from "../../components/LiveVideo";
import { inApi } from "../../api/place";

const RENEW_MS = 5000;

/** A still of a channel that renews itself while it is in view; a click opens the live picture. */
export function Still({ channel, title, onOpen }: { channel: string; title: string; onOpen: () => void }) {
  const frame = useRef<HTMLButtonElement>(null);
  const [turn, setTurn] = useState(() => Date.now());
  const [isMissing, setMissing] = useState(false);
  useEffect(() => {
    let isSeen = true;
    const observer = new IntersectionObserver(([entry]) => {
      isSeen = entry?.isIntersecting ?? true;
    });
    if (frame.current) observer.observe(frame.current);
    const timer = setInterval(() => {
      if (isSeen && document.visibilityState === "visible") setTurn(Date.now());
    }, RENEW_MS);
    return () => {
      observer.disconnect();
      clearInterval(timer);
    };
  }, []);
  return (
    <button
      ref={frame}
      type="button"
      className="group relative block aspect-video w-full overflow-hidden bg-neutral text-neutral-content"
      aria-label={`See the picture of ${title}`}
      onClick={onOpen}
    >
      <img
        className={`h-full w-full object-contain ${isMissing ? "hidden" : ""}`}
        src={inApi(`/channels/${encodeURIComponent(channel)}/still?width=320&turn=${turn}`)}
        alt=""
        onLoad={() => setMissing(false)}
        onError={() => setMissing(true)}
      />
      {isMissing && <span className="absolute inset-0 grid place-content-center text-sm">No still of this stream</span>}
      <span className="absolute right-1.5 bottom-1.5 rounded-field bg-black/70 p-1 text-white" aria-hidden>
        <Eye className="size-4" />
      </span>
    </button>
  );
}

/** The live picture on the board, until it is closed. */
export function Opened({ channel, title, onClose }: { channel: string; title: string; onClose: () => void }) {
  return (
    <div className="relative border-b border-base-300">
      <LiveVideo channel={channel} />
      <button type="button" className="btn absolute top-6 right-6 btn-sm" aria-label={`Close the picture of ${title}`} onClick={onClose}>
        <EyeOff className="size-4" /> Close
      </button>
    </div>
  );
}
