import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { answer, api } from "./client";
import { useChange } from "./queries";
import type { AddCallTarget, ChangeCallTarget, DeliveryState } from "./types";

const TARGET = "/api/v1/call-targets/{target}" as const;
const STALE = ["call-targets", "deliveries"] as const;

const to = (target: string) => ({ params: { path: { target } } });

export function useCallTargets() {
  return useQuery({
    queryKey: ["call-targets"],
    queryFn: () => answer(api.GET("/api/v1/call-targets")),
    // Calls are made, and fail, by themselves.
    refetchInterval: 5000,
  });
}

export function useAddCallTarget() {
  return useChange((body: AddCallTarget) => answer(api.POST("/api/v1/call-targets", { body })), STALE);
}

export function useChangeCallTarget(name: string) {
  return useChange((body: ChangeCallTarget) => answer(api.PATCH(TARGET, { ...to(name), body })), STALE);
}

export function useRemoveCallTarget() {
  return useChange((name: string) => answer(api.DELETE(TARGET, to(name))), STALE);
}

/** Tells a target that this is a test. */
export function useTryCallTarget(name: string) {
  return useMutation({ mutationFn: () => answer(api.POST(`${TARGET}/try`, to(name))) });
}

/** Which deliveries to tell; what is left out does not matter. */
export type DeliveryFilter = { target?: string; state?: DeliveryState };

export function useDeliveries(filter: DeliveryFilter) {
  return useInfiniteQuery({
    queryKey: ["deliveries", filter],
    queryFn: ({ pageParam }) => answer(api.GET("/api/v1/deliveries", { params: { query: { ...filter, before: pageParam, limit: 25 } } })),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    refetchInterval: 5000,
  });
}

export function useDelivery(delivery: number) {
  return useQuery({
    queryKey: ["deliveries", delivery],
    queryFn: () => answer(api.GET("/api/v1/deliveries/{delivery}", { params: { path: { delivery } } })),
    refetchInterval: 5000,
  });
}

export function useDeliverAgain() {
  return useChange((delivery: number) => answer(api.POST("/api/v1/deliveries/{delivery}/again", { params: { path: { delivery } } })), STALE);
}
