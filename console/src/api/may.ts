import { createContext, useContext } from "react";
import { may } from "../lib/roles";
import { useMe } from "./queries";
import type { Role } from "./types";

/** The channel that what is shown is about; none for the house as a whole. */
export const OnChannel = createContext<string | undefined>(undefined);

/** True if who is signed in may do here what takes this role; until that is known, too. */
export function useMay(least: Role): boolean {
  const me = useMe().data;
  const channel = useContext(OnChannel);
  return me === undefined || may(me, least, channel);
}
