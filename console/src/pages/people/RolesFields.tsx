import { useOutletContext } from "react-router";
import type { Live } from "../../api/live";
import type { ChannelRole, Role } from "../../api/types";
import { fieldText } from "../../components/Field";
import { Select } from "../../components/Select";
import { CHANNEL_ROLES, ROLES, type Roles } from "../../lib/roles";

const NOWHERE = ["", "Nowhere but on the channels below"] as const;
const IN_HOUSE = [...ROLES.map(([role, name, what]) => [role, `${name}: ${what}`] as const), NOWHERE];
const ON_CHANNEL = [["", "As in the house"] as const, ...CHANNEL_ROLES.map(([role, name]) => [role, name] as const)];

const field = (channel: string) => `on ${channel}`;

/** A role in the house, and where wanted other ones on single channels. */
export function RolesFields({ roles }: { roles: Roles }) {
  const channels = useOutletContext<Live>().board?.channels ?? [];
  const own = (channel: string) => roles.channels.find((entry) => entry.channel === channel)?.role ?? "";
  return (
    <>
      <Select label="Role in the house" name="role" options={IN_HOUSE} defaultValue={roles.role ?? ""} hint="Each may do what those before may, on every channel." />
      {channels.length > 0 && (
        <fieldset className="space-y-2">
          <legend className="text-sm font-medium">On single channels</legend>
          {channels.map((channel) => (
            <label key={channel.name} className="flex items-center justify-between gap-3 text-sm">
              <span className="min-w-0 truncate">{channel.title}</span>
              <select className="select select-sm w-48 shrink-0" name={field(channel.name)} aria-label={`Role on ${channel.name}`} defaultValue={own(channel.name)}>
                {ON_CHANNEL.map(([role, name]) => (
                  <option key={role} value={role}>
                    {name}
                  </option>
                ))}
              </select>
            </label>
          ))}
        </fieldset>
      )}
    </>
  );
}

/** The roles that a form with these fields says. */
export function rolesIn(form: HTMLFormElement): { role?: Role; channels: ChannelRole[] } {
  const role = fieldText(form, "role");
  const own = [...new FormData(form).entries()].filter(([name, value]) => name.startsWith("on ") && value !== "");
  const channels = own.map(([name, value]) => ({ channel: name.slice("on ".length), role: value as Role }));
  return role === "" ? { channels } : { role: role as Role, channels };
}
