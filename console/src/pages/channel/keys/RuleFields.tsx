import { useState } from "react";
import type { KeyRules, Protocol } from "../../../api/types";
import { Field, fieldText } from "../../../components/Field";
import { Select } from "../../../components/Select";
import { asField, asMoment } from "../../../lib/keys";
import { HoursFields, readHours, writeHours, type Hours } from "./HoursFields";

const PROTOCOLS: readonly (readonly [Protocol, string])[] = [
  ["rtmp", "RTMP"],
  ["rtmps", "RTMP over TLS"],
  ["srt", "SRT"],
];

/** Hours are kept beside the form, whose other fields are read when it is sent. */
export function useRules(present: KeyRules) {
  const [hours, setHours] = useState<Hours>(() => readHours(present.hours));
  const read = (form: HTMLFormElement): Required<KeyRules> => ({
    starts_at: asMoment(fieldText(form, "starts_at")),
    expires_at: asMoment(fieldText(form, "expires_at")),
    hours: writeHours(hours),
    allowed_from: fieldText(form, "from").split(/[\s,]+/).filter(Boolean),
    protocols: new FormData(form).getAll("protocols") as Protocol[],
    most_connections: Number(fieldText(form, "most")) || null,
    show_when_over: fieldText(form, "show") === "goes_on" ? "goes_on" : "ends",
  });
  return { hours, setHours, read };
}

/** When, from where and how a key opens. */
export function RuleFields({ present, rules, isForWatching }: { present: KeyRules; rules: ReturnType<typeof useRules>; isForWatching: boolean }) {
  return (
    <div className="space-y-4">
      <div className="grid gap-4 sm:grid-cols-2">
        <Field label="Begins" name="starts_at" type="datetime-local" defaultValue={asField(present.starts_at)} hint="At once if left empty." />
        <Field label="Ends" name="expires_at" type="datetime-local" defaultValue={asField(present.expires_at)} hint="Never if left empty." />
      </div>
      <HoursFields hours={rules.hours} onChange={rules.setHours} />
      <Select
        label="When its time is over"
        name="show"
        defaultValue={present.show_when_over ?? "ends"}
        options={
          isForWatching
            ? [
                ["ends", "its players are ended"],
                ["goes_on", "its players go on"],
              ]
            : [
                ["ends", "its show is ended"],
                ["goes_on", "its show goes on, and its encoder may come back into it"],
              ]
        }
      />
      <Field label="May be used from" name="from" placeholder="anywhere" defaultValue={present.allowed_from?.join(", ")} hint="Addresses or networks, as in 192.0.2.7, 198.51.100.0/24." />
      <fieldset>
        <legend className="text-sm font-medium">Opens over</legend>
        <div className="mt-1 flex flex-wrap gap-x-6 gap-y-2">
          {PROTOCOLS.map(([protocol, name]) => (
            <label key={protocol} className="flex items-center gap-2 text-sm">
              <input type="checkbox" className="checkbox checkbox-sm" name="protocols" value={protocol} defaultChecked={present.protocols?.includes(protocol)} />
              {name}
            </label>
          ))}
        </div>
        <p className="mt-1 text-xs text-base-content/65">All if none is chosen.</p>
      </fieldset>
      {isForWatching ? (
        <Field label="Players at a time" name="most" type="number" min={1} placeholder="any number" defaultValue={present.most_connections ?? ""} />
      ) : (
        <Select
          label="A second encoder with this key"
          name="most"
          defaultValue={present.most_connections ? "1" : "0"}
          options={[
            ["0", "takes over"],
            ["1", "is turned away while the first sends"],
          ]}
        />
      )}
    </div>
  );
}
