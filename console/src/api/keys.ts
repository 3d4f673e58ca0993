import { useQuery } from "@tanstack/react-query";
import { CallError, answer, api } from "./client";
import { inChannel, useChange } from "./queries";
import type { AddKey, AddKeys, ChangeKey, RenewKey, ShowThen } from "./types";

const ofKey = (channel: string, key: number) => ({ params: { path: { channel, key } } });

export function useKeys(channel: string) {
  return useQuery({
    queryKey: ["channel", channel, "keys"],
    queryFn: () => answer(api.GET("/api/v1/channels/{channel}/keys", inChannel(channel))),
    // Keys open and close by themselves, and are used.
    refetchInterval: 10_000,
  });
}

export function useAddKey(channel: string) {
  return useChange(
    (form: AddKey) => answer(api.POST("/api/v1/channels/{channel}/keys", { ...inChannel(channel), body: form })),
    ["channel", channel],
  );
}

export function useAddKeys(channel: string) {
  return useChange(
    (form: AddKeys) => answer(api.POST("/api/v1/channels/{channel}/keys/list", { ...inChannel(channel), body: form })),
    ["channel", channel],
  );
}

export function useChangeKey(channel: string, key: number) {
  return useChange(
    (form: ChangeKey) => answer(api.PATCH("/api/v1/channels/{channel}/keys/{key}", { ...ofKey(channel, key), body: form })),
    ["channel", channel],
  );
}

export function useRenewKey(channel: string, key: number) {
  return useChange(
    (form: RenewKey) => answer(api.POST("/api/v1/channels/{channel}/keys/{key}/renewal", { ...ofKey(channel, key), body: form })),
    ["channel", channel],
  );
}

export function useRetireKey(channel: string, key: number) {
  return useChange(
    (show: ShowThen) => answer(api.POST("/api/v1/channels/{channel}/keys/{key}/retirement", { ...ofKey(channel, key), body: { show } })),
    ["channel", channel],
  );
}

export function useEndGuestLink(channel: string) {
  return useChange((key: number) => answer(api.DELETE("/api/v1/channels/{channel}/keys/{key}/guest-link", ofKey(channel, key))), ["channel", channel]);
}

export function useRemoveKey(channel: string) {
  return useChange((key: number) => answer(api.DELETE("/api/v1/channels/{channel}/keys/{key}", ofKey(channel, key))), ["channel", channel]);
}

/** What a guest's link shows, as it is now. A link that is over is not asked for again. */
export function useGuestPage(token: string) {
  return useQuery({
    queryKey: ["guest", token],
    queryFn: () => answer(api.POST("/api/v1/guests/look", { body: { token } })),
    retry: (_, error) => !(error instanceof CallError && error.code === "not_found"),
    refetchInterval: (query) => (query.state.error ? false : 2000),
  });
}
