import type { ReactNode } from "react";
import { useMay } from "../api/may";
import type { Role } from "../api/types";

/** What only those see who may do it. The service decides all the same. */
export function Allowed({ least, children }: { least: Role; children: ReactNode }) {
  return useMay(least) ? children : null;
}
