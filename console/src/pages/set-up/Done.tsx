import type { SetupApplied } from "../../api/types";
import { CopyField } from "../../components/CopyField";
import { ROOT } from "../../api/place";
import { Section } from "../channel/Section";
import { Changes } from "./Changes";
import { sumText } from "./told";

/** What was changed, and what is shown this once. */
export function Done({ applied }: { applied: SetupApplied }) {
  const hasSecrets = applied.keys.length + applied.invitations.length + applied.secrets.length > 0;
  return (
    <>
      {hasSecrets && (
        <Section title="Shown this once">
          <div className="space-y-5 p-4 sm:p-5">
            {applied.keys.map(({ channel, key }) => (
              <div key={key.key.id} className="space-y-2">
                <p className="text-sm font-medium">
                  {key.key.label}, for {channel}
                </p>
                <CopyField label="Server" value={key.encoder.server} />
                <CopyField label="Key" value={key.encoder.key} />
              </div>
            ))}
            {applied.invitations.map(({ name, code }) => (
              <CopyField key={name} label={`Invitation for ${name}`} value={`${window.location.origin}${ROOT}/invitation#${code}`} />
            ))}
            {applied.secrets.map(({ name, secret }) => (
              <CopyField key={name} label={`Signing secret of the ${name}`} value={secret} />
            ))}
          </div>
        </Section>
      )}
      <Section title="What was changed">
        <p className="border-b border-base-300 px-4 py-2 text-sm text-base-content/75 sm:px-5">{sumText(applied.changes)}.</p>
        <Changes changes={applied.changes} />
      </Section>
    </>
  );
}
