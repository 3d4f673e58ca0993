import type { ChannelRole, Role } from "../api/types";

/** What each role may do, from the least on; each may do what those before may. */
export const ROLES: readonly (readonly [Role, string, string])[] = [
  ["observer", "Observer", "sees shows, recordings and reports"],
  ["operator", "Operator", "runs shows, records, lets guests watch"],
  ["engineer", "Engineer", "sets up channels, keys and destinations"],
  ["administrator", "Administrator", "lets people in"],
];

/** The roles that somebody can have on a single channel. */
export const CHANNEL_ROLES = ROLES.filter(([role]) => role !== "administrator");

/** What somebody may do in the house, and on single channels besides. */
export type Roles = { role?: Role | null; channels: readonly ChannelRole[] };

const place = (role: Role) => ROLES.findIndex(([word]) => word === role);

/** True if who has these roles may do what takes that one: on a channel, or in the house if none is named. */
export function may({ role, channels }: Roles, least: Role, channel?: string): boolean {
  const own = channels.filter((entry) => entry.channel === channel).map((entry) => entry.role);
  return [...(role ? [role] : []), ...own].some((has) => place(has) >= place(least));
}

export const roleName = (role: Role) => ROLES[place(role)]?.[1] ?? role;

/** All roles of somebody in words. */
export function rolesText({ role, channels }: Roles): string {
  const own = channels.map((entry) => `${roleName(entry.role)} on ${entry.channel}`);
  return [...(role ? [roleName(role)] : []), ...own].join(", ");
}
