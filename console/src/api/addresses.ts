import { useQuery } from "@tanstack/react-query";
import { answer, api } from "./client";
import { useChange } from "./queries";
import type { AddAddressRule } from "./types";

export function useAddresses() {
  return useQuery({
    queryKey: ["addresses"],
    queryFn: () => answer(api.GET("/api/v1/addresses")),
    // Addresses are blocked, and come free, by themselves.
    refetchInterval: 5000,
  });
}

export function useAddAddressRule() {
  return useChange((body: AddAddressRule) => answer(api.POST("/api/v1/addresses", { body })), ["addresses"]);
}

export function useRemoveAddressRule() {
  return useChange((rule: number) => answer(api.DELETE("/api/v1/addresses/{rule}", { params: { path: { rule } } })), ["addresses"]);
}

export function useReleaseAddress() {
  return useChange((address: string) => answer(api.POST("/api/v1/addresses/release", { body: { address } })), ["addresses"]);
}
