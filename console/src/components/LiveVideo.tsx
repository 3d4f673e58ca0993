import { Volume2, VolumeX } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { PicturePlayer } from "../player/pictures";
import type { Sound } from "../player/player";
import { inApi } from "../api/place";

/** A way that broke is tried again after so long. */
const PAUSE_MS = 1500;
const LEVEL_MS = 100;
/** The quietest level that the bar shows, in decibels below full scale. */
const FLOOR_DB = 60;

/** What is on air, less than a second late: muted, with a level bar, and not fetched while it is out of view. */
export function LiveVideo({ channel }: { channel: string }) {
  const video = useRef<HTMLVideoElement>(null);
  const player = useRef<PicturePlayer>(null);
  const [isSeen, setSeen] = useState(true);
  const [isHeard, setHeard] = useState(false);
  const [sounds, setSounds] = useState<Sound[]>([]);
  const [sound, setSound] = useState(1);
  const [trouble, setTrouble] = useState("");
  const level = useLevel(video, isHeard);
  useEffect(() => {
    const element = video.current;
    if (!element) return;
    const observer = new IntersectionObserver(([entry]) => setSeen(entry?.isIntersecting ?? true));
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  useEffect(() => {
    const element = video.current;
    if (!element || !isSeen) return;
    let pause: ReturnType<typeof setTimeout> | undefined;
    const address = `${location.origin.replace(/^http/, "ws")}${inApi(`/channels/${encodeURIComponent(channel)}/pictures`)}`;
    const begin = () => {
      player.current = new PicturePlayer(element, address, sound, {
        onSounds: setSounds,
        onOver: () => setTrouble("The show is over."),
        onFailed: (reason) => {
          setTrouble(`Not shown now: ${reason}.`);
          pause = setTimeout(begin, PAUSE_MS);
        },
      });
    };
    begin();
    return () => {
      clearTimeout(pause);
      player.current?.stop();
    };
  }, [channel, sound, isSeen]);
  return (
    <div className="space-y-3 p-4 sm:p-5">
      <div className="relative aspect-video max-w-3xl overflow-hidden rounded-box bg-black">
        <video ref={video} className="h-full w-full" playsInline autoPlay aria-label="What comes in" onPlaying={() => setTrouble("")} />
        {trouble && <p className="absolute inset-x-0 bottom-0 bg-black/70 p-3 text-center text-sm text-white">{trouble}</p>}
      </div>
      <div className="flex max-w-3xl flex-wrap items-center gap-3">
        <button type="button" className="btn btn-sm" aria-pressed={isHeard} onClick={() => setHeard(!isHeard)}>
          {isHeard ? <Volume2 className="size-4" /> : <VolumeX className="size-4" />} {isHeard ? "Sound off" : "Sound on"}
        </button>
        <LevelBar decibels={level} />
        {sounds.length > 1 && (
          <select className="select select-sm w-auto" aria-label="Sound" value={sound} onChange={(event) => setSound(Number(event.target.value))}>
            {sounds.map(({ place, label }) => (
              <option key={place} value={place}>
                {label}
              </option>
            ))}
          </select>
        )}
      </div>
    </div>
  );
}

/** How loud it is, with the marks at which it is too quiet and too loud. */
function LevelBar({ decibels }: { decibels: number | undefined }) {
  const share = decibels === undefined ? 0 : Math.min(1, Math.max(0, 1 + decibels / FLOOR_DB));
  const colour = decibels !== undefined && decibels > -3 ? "bg-error" : decibels !== undefined && decibels > -9 ? "bg-warning" : "bg-success";
  const told = decibels === undefined ? "no sound yet" : decibels <= -FLOOR_DB ? "silent" : `${decibels.toFixed(0)} dB`;
  return (
    <div className="flex min-w-48 grow items-center gap-2" role="img" aria-label={`Level: ${told}`}>
      <div className="h-2 grow overflow-hidden rounded-full bg-base-300">
        <div className={`h-full ${colour}`} style={{ width: `${share * 100}%` }} />
      </div>
      <span className="w-24 text-right text-sm tabular-nums">{told}</span>
    </div>
  );
}

interface Chain {
  context: AudioContext;
  analyser: AnalyserNode;
  gain: GainNode;
}

/** The sound of a video on its way to the loudspeaker, which it does not reach before somebody wants to hear it. */
function chainOf(video: HTMLVideoElement): Chain {
  const context = new AudioContext();
  const [analyser, gain] = [context.createAnalyser(), context.createGain()];
  gain.gain.value = 0;
  context.createMediaElementSource(video).connect(analyser).connect(gain).connect(context.destination);
  return { context, analyser, gain };
}

/** Measures the sound of a video ten times a second, whether or not it is heard. */
function useLevel(video: React.RefObject<HTMLVideoElement | null>, isHeard: boolean): number | undefined {
  const chain = useRef<Chain>(null);
  const [level, setLevel] = useState<number>();
  useEffect(() => {
    const element = video.current;
    if (!element) return;
    // An element takes one chain in its life.
    chain.current ??= chainOf(element);
    const { context, analyser } = chain.current;
    void context.resume();
    const samples = new Float32Array(analyser.fftSize);
    const timer = setInterval(() => {
      if (context.state !== "running" || element.paused) return;
      analyser.getFloatTimeDomainData(samples);
      const peak = samples.reduce((most, sample) => Math.max(most, Math.abs(sample)), 0);
      setLevel(peak > 0 ? Math.max(-FLOOR_DB, 20 * Math.log10(peak)) : -FLOOR_DB);
    }, LEVEL_MS);
    return () => {
      clearInterval(timer);
      void context.suspend();
    };
  }, [video]);
  useEffect(() => {
    if (chain.current) chain.current.gain.gain.value = isHeard ? 1 : 0;
  }, [isHeard]);
  return level;
}
