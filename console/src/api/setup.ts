import { useMutation, useQueryClient } from "@tanstack/react-query";
import { answer, api } from "./client";
import type { ApplySetup, ReviewSetup } from "./types";

/** Fetches the house as a file, without secrets. */
export function useExportSetup() {
  return useMutation({ mutationFn: () => answer(api.GET("/api/v1/setup")) });
}

/** What a file would change; it changes nothing. */
export function useReviewSetup() {
  return useMutation({ mutationFn: (body: ReviewSetup) => answer(api.POST("/api/v1/setup/review", { body })), gcTime: 0 });
}

/** Makes the house as a file says: after that nothing that was read before is sure. */
export function useApplySetup() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: ApplySetup) => answer(api.POST("/api/v1/setup/apply", { body })),
    // The keys in the answer are kept no longer than the page is open.
    gcTime: 0,
    onSuccess: () => queries.invalidateQueries(),
  });
}
