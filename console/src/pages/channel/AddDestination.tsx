import { type FormEvent, useState } from "react";
import { useAddDestination, useDestinations, useSwitch } from "../../api/queries";
import type { Channel } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { SrtFields, srtChange } from "./SrtFields";

/** True if an address is one of SRT. */
export function isSrt(address: string): boolean {
  return address.trim().toLowerCase().startsWith("srt://");
}

function NewFields() {
  const [address, setAddress] = useState("");
  const overSrt = isSrt(address);
  return (
    <>
      <Field label="Name" name="name" placeholder="Plovio" required autoFocus hint="A name of your own." />
      <Field label="Address" name="address" placeholder="rtmps://live.example.org/in" required hint="rtmp://, rtmps:// or srt://host:port" onChange={(event) => setAddress(event.target.value)} />
      <Field label={overSrt ? "Stream id" : "Key"} name="key" type="password" required={!overSrt} hint={overSrt ? "If the listener asks for one. Kept encrypted and not shown again." : "Kept encrypted and not shown again."} />
      {overSrt && (
        <SrtFields srt={{ latency_ms: 500, has_passphrase: false }} hint="What lost packets are waited for: about four round trips." passphraseHint="10 to 79 characters, if the listener has one." />
      )}
      <details hidden={overSrt}>
        <summary className="cursor-pointer text-sm font-medium">The platform has a certificate authority of its own</summary>
        <textarea
          name="authority"
          className="textarea mt-2 h-28 w-full font-mono text-xs"
          placeholder="-----BEGIN CERTIFICATE-----"
          aria-label="Certificate of the authority"
        />
      </details>
    </>
  );
}

export function AddDestination({ channel, onClose }: { channel: Channel; onClose: () => void }) {
  const all = useDestinations();
  const add = useAddDestination();
  const link = useSwitch(channel.name);
  const taken = new Set(channel.destinations.map((entry) => entry.destination));
  const known = (all.data ?? []).filter((entry) => !taken.has(entry.name));
  const [choice, setChoice] = useState("");
  const onSubmit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const name = choice || fieldText(form, "name");
    if (!choice) {
      const authority = fieldText(form, "authority") || null;
      const address = fieldText(form, "address");
      await add.mutateAsync({ name, address, authority, key: fieldText(form, "key"), srt: srtChange(form) });
    }
    await link.mutateAsync({ destination: name, isOn: true });
    onClose();
  };
  const error = add.error ?? link.error;
  return (
    <Dialog title="Add destination" onClose={onClose}>
      <form className="space-y-4" onSubmit={(event) => void onSubmit(event).catch(() => undefined)}>
        {known.length > 0 && (
          <label className="block">
            <span className="text-sm font-medium">Destination</span>
            <select className="select mt-1 w-full" value={choice} onChange={(event) => setChoice(event.target.value)}>
              <option value="">A new one</option>
              {known.map((entry) => (
                <option key={entry.name}>{entry.name}</option>
              ))}
            </select>
          </label>
        )}
        {!choice && <NewFields />}
        {error && <ErrorNote error={error} />}
        <FormActions label="Add and switch on" isBusy={add.isPending || link.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
