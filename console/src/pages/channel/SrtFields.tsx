import type { ChangeSrt, Srt } from "../../api/types";
import { Field, fieldText } from "../../components/Field";

/** What of latency and passphrase is to change: a new passphrase, none any more, or the one there is. */
export function srtChange(form: HTMLFormElement): ChangeSrt {
  const latency = fieldText(form, "latency");
  const typed = fieldText(form, "passphrase");
  const isTakenAway = form.querySelector<HTMLInputElement>("[name=open]")?.checked;
  return {
    ...(latency && { latency_ms: Math.round(Number(latency)) }),
    ...(isTakenAway ? { passphrase: "" } : typed && { passphrase: typed }),
  };
}

/** Latency and passphrase of a channel or a destination. */
export function SrtFields({ srt, hint, passphraseHint }: { srt: Srt; hint: string; passphraseHint: string }) {
  return (
    <>
      <Field label="SRT latency, in milliseconds" name="latency" type="number" min={20} max={65535} defaultValue={srt.latency_ms} required hint={hint} />
      <Field
        label="SRT passphrase"
        name="passphrase"
        type="password"
        minLength={10}
        maxLength={79}
        placeholder={srt.has_passphrase ? "unchanged" : "none"}
        hint={passphraseHint}
      />
      {srt.has_passphrase && (
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" className="checkbox checkbox-sm" name="open" />
          Take the passphrase away
        </label>
      )}
    </>
  );
}
