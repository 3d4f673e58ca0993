import { useMutation, useQuery } from "@tanstack/react-query";
import { answer, api } from "./client";
import { inChannel, useChange } from "./queries";
import type { SetHouseSystem, TryHouseSystem } from "./types";

/** Of which channel a system is; none: of the whole house. */
export type Whose = string | undefined;

const HOUSE = "/api/v1/house-system" as const;
const CHANNEL = "/api/v1/channels/{channel}/house-system" as const;

export function useHouseSystem(whose: Whose) {
  return useQuery({
    queryKey: ["house-system", whose ?? ""],
    queryFn: () => answer(whose ? api.GET(CHANNEL, inChannel(whose)) : api.GET(HOUSE)),
    // It answers, or stops to, by itself.
    refetchInterval: 5000,
  });
}

export function useSetHouseSystem(whose: Whose) {
  return useChange(
    (body: SetHouseSystem) => answer(whose ? api.PUT(CHANNEL, { ...inChannel(whose), body }) : api.PUT(HOUSE, { body })),
    ["house-system"],
  );
}

export function useRemoveHouseSystem(whose: Whose) {
  return useChange(() => answer(whose ? api.DELETE(CHANNEL, inChannel(whose)) : api.DELETE(HOUSE)), ["house-system"]);
}

/** Asks about somebody made up. */
export function useTryHouseSystem(whose: Whose) {
  return useMutation({
    mutationFn: (body: TryHouseSystem) =>
      answer(whose ? api.POST(`${CHANNEL}/try`, { ...inChannel(whose), body }) : api.POST(`${HOUSE}/try`, { body })),
  });
}
