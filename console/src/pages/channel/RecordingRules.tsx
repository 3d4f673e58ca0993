import type { FormEvent } from "react";
import { useChangeChannel, useDepots } from "../../api/queries";
import type { Channel, RecordingWhen, TakeFormat } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { Select } from "../../components/Select";

const WHEN = [
  ["always", "Every session"],
  ["by_hand", "When started by hand"],
  ["off", "Nothing"],
] as const;

const FORMATS = [
  ["mp4", "MP4, in fragments"],
  ["matroska", "Matroska"],
] as const;

const NOW_AND_THEN = [
  ["no", "One take goes on"],
  ["yes", "A new take begins"],
] as const;

/** What of a channel is recorded, in which form, and how long it is kept. */
export function RecordingRules({ channel, onClose }: { channel: Channel; onClose: () => void }) {
  const change = useChangeChannel(channel.name);
  const depots = useDepots();
  const rules = channel.recording;
  const onSubmit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const scaled = (name: string, factor: number) => Math.round(Number(fieldText(form, name) || 0) * factor);
    const depot = fieldText(form, "depot");
    await change.mutateAsync({
      recording: {
        when: fieldText(form, "when") as RecordingWhen,
        format: fieldText(form, "format") as TakeFormat,
        split_ms: scaled("split_minutes", 60_000),
        split_bytes: scaled("split_mb", 1e6),
        split_at_return: fieldText(form, "at_return") === "yes",
        names: fieldText(form, "names"),
        pre_roll_ms: scaled("pre_roll", 1000),
        keep_s: scaled("keep_days", 86_400),
        keep_count: scaled("keep_count", 1),
        keep_bytes: scaled("keep_gb", 1e9),
        depot,
        removes_copied: depot !== "" && fieldText(form, "copied") === "remove",
      },
    });
    onClose();
  };
  // The present one is always there, so that saving before the list has come does not lose it.
  const names = new Set([...(rules.depot ? [rules.depot] : []), ...(depots.data ?? []).map((depot) => depot.name)]);
  const depotOptions = [["", "Nowhere"] as const, ...[...names].map((name) => [name, name] as const)];
  const number = { type: "number", min: 0, step: "any" } as const;
  return (
    <Dialog title="What is recorded" onClose={onClose}>
      <form className="space-y-4" onSubmit={(event) => void onSubmit(event).catch(() => undefined)}>
        <div className="grid gap-4 sm:grid-cols-2">
          <Select label="Record" name="when" defaultValue={rules.when} options={WHEN} hint="Holds from the next session." />
          <Select label="As" name="format" defaultValue={rules.format} options={FORMATS} hint="All tracks of sound, in both." />
          <Field label="New take every … minutes" name="split_minutes" {...number} defaultValue={rules.split_ms / 60_000} hint="0: no limit" />
          <Field label="New take every … MB" name="split_mb" {...number} defaultValue={rules.split_bytes / 1e6} hint="0: no limit" />
          <Select label="A lost encoder is back" name="at_return" defaultValue={rules.split_at_return ? "yes" : "no"} options={NOW_AND_THEN} />
          <Field label="By hand: begin … seconds earlier" name="pre_roll" {...number} max={20} defaultValue={rules.pre_roll_ms / 1000} />
        </div>
        <Field label="Names" name="names" defaultValue={rules.names} required className="input mt-1 w-full font-mono text-sm" hint="{channel}, {date}, {time}, {session} and {take} are filled in; / makes folders." />
        <div className="grid gap-4 sm:grid-cols-3">
          <Field label="Keep days" name="keep_days" {...number} defaultValue={rules.keep_s / 86_400} hint="0: for good" />
          <Field label="Keep takes" name="keep_count" {...number} step={1} defaultValue={rules.keep_count} hint="0: all" />
          <Field label="Keep GB" name="keep_gb" {...number} defaultValue={rules.keep_bytes / 1e9} hint="0: no limit" />
          <Select label="Copy to" name="depot" defaultValue={rules.depot ?? ""} key={depotOptions.length} options={depotOptions} />
          <Select label="Then" name="copied" defaultValue={rules.removes_copied ? "remove" : "keep"} options={[["keep", "keep it here"], ["remove", "remove it here"]]} />
        </div>
        {change.error && <ErrorNote error={change.error} />}
        <FormActions label="Save" isBusy={change.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
