import { type FormEvent, useState } from "react";
import { useChangeDestination, useSending } from "../../api/queries";
import type { AudioOtherwise, ChannelDestination, Destination, MissingSound, SheetAction, SheetForm } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { Select } from "../../components/Select";
import { isSrt } from "./AddDestination";
import { SrtFields, srtChange } from "./SrtFields";

const OTHERWISES = [
  ["first", "The first track"],
  ["none", "No sound"],
] as const;

const ACTIONS = [
  ["warn", "Send it and say so"],
  ["do_not_send", "Do not send it"],
] as const;

const NO_SOUND = [
  ["ignore", "It does without"],
  ["warn", "Say so"],
  ["add", "Add silence"],
] as const;

/** A number of a form; null if nothing was entered. */
function optional(form: HTMLFormElement, name: string, scale = 1): number | null {
  const text = fieldText(form, name);
  return text === "" ? null : Math.round(Number(text) * scale);
}

function list(form: HTMLFormElement, name: string): string[] {
  return fieldText(form, name).split(",").map((part) => part.trim()).filter(Boolean);
}

function sheet(form: HTMLFormElement): SheetForm {
  const rate = fieldText(form, "frame_rate");
  return {
    needs_tls: fieldText(form, "needs_tls") === "on",
    video_codecs: list(form, "video_codecs"),
    audio_codecs: list(form, "audio_codecs"),
    max_bitrate_bps: optional(form, "bitrate", 1e6),
    max_long_side: optional(form, "long_side"),
    max_short_side: optional(form, "short_side"),
    max_frame_rate: rate === "" ? null : Number(rate),
    max_keyframe_spacing_ms: optional(form, "keyframes", 1000),
    max_audio_tracks: optional(form, "audio_tracks"),
    video_profiles: list(form, "video_profiles"),
    needs_closed_groups: fieldText(form, "needs_closed_groups") === "on",
    standard_range_only: fieldText(form, "standard_range_only") === "on",
    missing_sound: fieldText(form, "missing_sound") as MissingSound,
    on_breach: fieldText(form, "on_breach") as SheetAction,
  };
}

function Check({ name, label, isOn = false }: { name: string; label: string; isOn?: boolean }) {
  return (
    <label className="flex items-center gap-2 text-sm">
      <input type="checkbox" className="checkbox checkbox-sm" name={name} defaultChecked={isOn} />
      {label}
    </label>
  );
}

function Limits({ limits }: { limits: SheetForm }) {
  return (
    <fieldset className="rounded-box border border-base-300 p-4">
      <legend className="px-1 text-sm font-semibold">Limits sheet</legend>
      <p className="text-xs text-base-content/65">What the platform accepts. Leave out what you do not know.</p>
      <div className="mt-3 grid grid-cols-2 gap-3 sm:grid-cols-3">
        <Field label="Bitrate, Mbit/s" name="bitrate" type="number" min={0} step="any" defaultValue={limits.max_bitrate_bps ? limits.max_bitrate_bps / 1e6 : ""} />
        <Field label="Long side, pixels" name="long_side" type="number" min={1} defaultValue={limits.max_long_side ?? ""} />
        <Field label="Short side, pixels" name="short_side" type="number" min={1} defaultValue={limits.max_short_side ?? ""} />
        <Field label="Frame rate" name="frame_rate" type="number" min={1} step="any" defaultValue={limits.max_frame_rate ?? ""} />
        <Field label="Keyframes, seconds" name="keyframes" type="number" min={0} step="any" defaultValue={limits.max_keyframe_spacing_ms ? limits.max_keyframe_spacing_ms / 1000 : ""} />
        <Field label="Audio tracks" name="audio_tracks" type="number" min={0} max={16} defaultValue={limits.max_audio_tracks ?? ""} />
        <Field label="Video codecs" name="video_codecs" placeholder="H.264, HEVC" defaultValue={limits.video_codecs?.join(", ") ?? ""} />
        <Field label="Audio codecs" name="audio_codecs" placeholder="AAC" defaultValue={limits.audio_codecs?.join(", ") ?? ""} />
        <Field label="Video profiles" name="video_profiles" placeholder="Main, High" defaultValue={limits.video_profiles?.join(", ") ?? ""} />
        <Select label="If there is no sound" name="missing_sound" defaultValue={limits.missing_sound ?? "ignore"} options={NO_SOUND} />
        <Select label="If it is not kept" name="on_breach" defaultValue={limits.on_breach ?? "warn"} options={ACTIONS} />
      </div>
      <div className="mt-3 flex flex-wrap gap-x-6 gap-y-2">
        <Check name="needs_tls" label="Encrypted connections only" isOn={limits.needs_tls} />
        <Check name="needs_closed_groups" label="Closed groups of pictures only" isOn={limits.needs_closed_groups} />
        <Check name="standard_range_only" label="Standard range only (no HDR)" isOn={limits.standard_range_only} />
      </div>
    </fieldset>
  );
}

type Props = { channel: string; destination: Destination; sending: ChannelDestination; onClose: () => void };

/** Everything about a destination that can be changed, in mid-show too. */
export function EditDestination({ channel, destination, sending, onClose }: Props) {
  const change = useChangeDestination(destination.name);
  const send = useSending(channel);
  const [address, setAddress] = useState(destination.address);
  const overSrt = isSrt(address);
  const onSubmit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    await change.mutateAsync({
      address: fieldText(form, "address"),
      key: fieldText(form, "key") || undefined,
      batch_ms: optional(form, "batch"),
      audio: fieldText(form, "audio"),
      audio_otherwise: fieldText(form, "otherwise") as AudioOtherwise,
      video_track: optional(form, "video_track") ?? 0,
      limits: sheet(form),
      srt: srtChange(form),
    });
    await send.mutateAsync({
      destination: destination.name,
      delay_ms: optional(form, "delay", 1000) ?? 0,
      start_after_ms: optional(form, "start", 1000) ?? 0,
    });
    onClose();
  };
  const error = change.error ?? send.error;
  return (
    <Dialog title={destination.name} isWide onClose={onClose}>
      <form className="space-y-4" onSubmit={(event) => void onSubmit(event).catch(() => undefined)}>
        <div className="grid gap-3 sm:grid-cols-2">
          <Field label="Address" name="address" defaultValue={destination.address} required hint="Another address or key costs a new connection." onChange={(event) => setAddress(event.target.value)} />
          <Field label={overSrt ? "Stream id" : "Key"} name="key" type="password" placeholder="unchanged" />
          {overSrt && (
            <SrtFields
              srt={destination.srt ?? { latency_ms: 500, has_passphrase: false }}
              hint="What lost packets are waited for: about four round trips. Costs a new connection."
              passphraseHint="10 to 79 characters, if the listener has one."
            />
          )}
          <Field label="Delay on this channel, seconds" name="delay" type="number" min={0} max={300} step="any" defaultValue={sending.delay_ms / 1000} hint="Time to cut something off. It gets everything, later." />
          <Field label="Starts after the show, seconds" name="start" type="number" min={0} max={3600} step="any" defaultValue={sending.start_after_ms / 1000} />
          <Field label="Sound" name="audio" placeholder="all that it takes" defaultValue={destination.audio ?? ""} hint="number:2, language:de or name:commentary" />
          <Select label="If there is no such track" name="otherwise" defaultValue={destination.audio_otherwise} options={OTHERWISES} />
          <Field label="Track of pictures" name="video_track" type="number" min={1} max={16} placeholder="all of them" defaultValue={destination.video_track ?? ""} hint="Of a stream with several: the only one that it gets." />
          <Field label="Collect packets for, milliseconds" name="batch" type="number" min={0} max={1000} defaultValue={destination.batch_ms} hint="20 saves CPU; 0 for a preview." />
        </div>
        <Limits limits={destination.limits} />
        {error && <ErrorNote error={error} />}
        <FormActions label="Save" isBusy={change.isPending || send.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
