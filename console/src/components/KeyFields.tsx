import { QRCodeSVG } from "qrcode.react";
import { useId, useState } from "react";
import type { EncoderFields, KeyRight } from "../api/types";
import { qrChoices } from "../lib/keys";
import { CopyField } from "./CopyField";

/** What goes into the fields of an encoder or player, for each protocol, to copy or to read with a phone. */
export function KeyFields({ fields, right, isKeyHidden = false }: { fields: EncoderFields; right: KeyRight; isKeyHidden?: boolean }) {
  const { srt } = fields;
  return (
    <div className="space-y-4">
      <CopyField label="Server" value={fields.server} />
      {fields.secure_server && <CopyField label="Server over TLS" value={fields.secure_server} />}
      <CopyField label="Key" value={fields.key} hint={isKeyHidden ? undefined : `Whoever has it can ${right === "view" ? "watch" : "publish on"} this channel.`} />
      <details>
        <summary className="cursor-pointer text-sm font-medium">QR code for a phone</summary>
        <QrCode fields={fields} />
      </details>
      <details>
        <summary className="cursor-pointer text-sm font-medium">Over SRT</summary>
        <div className="mt-3 space-y-4">
          <CopyField label="SRT address" value={srt.address} hint="The device is the caller." />
          <CopyField label="Stream id" value={srt.stream_id} hint={`Latency: ${srt.latency_ms} ms or more.${srt.has_passphrase && !srt.passphrase ? " Passphrase: that of the channel." : ""}`} />
          {srt.passphrase && <CopyField label="Passphrase" value={srt.passphrase} />}
          <CopyField label="SRT, all in one" value={srt.whole} hint="For devices with one field." />
        </div>
      </details>
      <details>
        <summary className="cursor-pointer text-sm font-medium">Other kinds of devices</summary>
        <div className="mt-3 space-y-4">
          <CopyField label="Both in one, where there is one field" value={fields.whole} />
          <CopyField label="Server, where user name and password are asked for" value={fields.guarded_server} />
          <CopyField label="User name" value={fields.user} hint="The password is the key." />
        </div>
      </details>
    </div>
  );
}

function QrCode({ fields }: { fields: EncoderFields }) {
  const choices = qrChoices(fields);
  const [chosen, setChosen] = useState(0);
  const { label, value } = choices[chosen] ?? { label: "", value: "" };
  const name = useId();
  return (
    <div className="mt-3 flex flex-wrap gap-4">
      {/* Black on white in the dark as well: that is what cameras are made for. */}
      <div className="rounded-box bg-white p-2">
        <QRCodeSVG value={value} size={246} level="M" marginSize={4} bgColor="#ffffff" fgColor="#000000" title={`QR code: ${label}`} />
      </div>
      <fieldset className="min-w-40 flex-1">
        <legend className="text-sm font-medium">It holds</legend>
        <div className="mt-1 space-y-1.5">
          {choices.map((choice, place) => (
            <label key={choice.label} className="flex items-center gap-2 text-sm">
              <input type="radio" className="radio radio-sm" name={name} checked={place === chosen} onChange={() => setChosen(place)} />
              {choice.label}
            </label>
          ))}
        </div>
      </fieldset>
    </div>
  );
}
