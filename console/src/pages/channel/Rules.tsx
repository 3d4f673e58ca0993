import { type FormEvent, useRef } from "react";
import { useChangeChannel, useUploadSlate } from "../../api/queries";
import type { Channel, SlateChoice, Takeover } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { Select } from "../../components/Select";
import { SrtFields, srtChange } from "./SrtFields";

const TAKEOVERS = [
  ["refuse", "Turn it away"],
  ["replace", "Let it take over"],
] as const;

const SLATES = [
  ["built_in", "The built-in picture"],
  ["uploaded", "An uploaded clip"],
  ["none", "Nothing: the last picture stays"],
] as const;

/** What a channel does when encoders come, go and come again. */
export function Rules({ channel, onClose }: { channel: Channel; onClose: () => void }) {
  const change = useChangeChannel(channel.name);
  const upload = useUploadSlate(channel.name);
  const file = useRef<HTMLInputElement>(null);
  const onSubmit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const clip = file.current?.files?.[0];
    await change.mutateAsync({
      hold_ms: Math.round(Number(fieldText(form, "hold")) * 1000),
      takeover: fieldText(form, "takeover") as Takeover,
      slate: fieldText(form, "slate") as SlateChoice,
      loudness_lufs: Number(fieldText(form, "loudness")) || 0,
      srt: srtChange(form),
    });
    if (clip) await upload.mutateAsync(clip);
    onClose();
  };
  const error = change.error ?? upload.error;
  return (
    <Dialog title="Rules of the channel" onClose={onClose}>
      <form className="space-y-4" onSubmit={(event) => void onSubmit(event).catch(() => undefined)}>
        <Field label="Wait for a lost encoder, in seconds" name="hold" type="number" min={0} max={3600} step="any" defaultValue={channel.hold_ms / 1000} required hint="Holds from the next session." />
        <Select label="Meanwhile send" name="slate" defaultValue={channel.slate} options={SLATES} />
        <Field
          label="Clip (MP4)"
          name="clip"
          type="file"
          accept="video/mp4,.mp4"
          ref={file}
          className="file-input mt-1 w-full"
          hint="Codec and size like the show's. Where it does not fit, the built-in picture is sent."
        />
        <Field label="Loudness, LUFS" name="loudness" type="number" min={-40} max={0} defaultValue={channel.loudness_lufs ?? ""} placeholder="none" hint="As in -16 for most platforms, or -23 (EBU R 128). It is said when the sound is louder or softer." />
        <Select label="A second encoder comes" name="takeover" defaultValue={channel.takeover} options={TAKEOVERS} hint="One with the same key always replaces its old connection. One with a backup key waits." />
        <SrtFields
          srt={channel.srt}
          hint="What lost packets are waited for: about four round trips. Holds from the next connection."
          passphraseHint="10 to 79 characters. Encoders and players must then have the same one."
        />
        {error && <ErrorNote error={error} />}
        <FormActions label="Save" isBusy={change.isPending || upload.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
