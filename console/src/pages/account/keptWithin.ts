import type { Token } from "../../api/types";
import { roleName } from "../../lib/roles";

/** What a token is kept within, in words; nothing for one that may what its person may. */
export function keptWithin({ role, channels, addresses }: Pick<Token, "role" | "channels" | "addresses">): string {
  const parts = [
    ...(role ? [`at most ${roleName(role).toLowerCase()}`] : []),
    ...(channels ? [`on ${channels.join(", ") || "no channel"} only`] : []),
    ...(addresses.length > 0 ? [`from ${addresses.join(", ")} only`] : []),
  ];
  return parts.join(" · ");
}
