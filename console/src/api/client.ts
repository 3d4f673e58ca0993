import createClient from "openapi-fetch";
import { ROOT } from "./place";
import type { paths, Problem } from "./types";

/** The only file that talks to the network, with `live.ts` beside it. */
export const api = createClient<paths>({
  baseUrl: window.location.origin + ROOT,
  fetch: (request) => globalThis.fetch(request),
});

/** What a failed call tells people. */
export class CallError extends Error {
  constructor(
    readonly code: string,
    message: string,
    readonly nextStep: string,
  ) {
    super(message);
  }
}

const unreachable = new CallError(
  "unreachable",
  "The service does not answer.",
  "Check that waverantd runs and that this machine reaches it.",
);

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The data of a call; throws a {@link CallError} otherwise. */
export async function answer<T>(call: Promise<Answer<T>>): Promise<T> {
  let result: Answer<T>;
  try {
    result = await call;
  } catch {
    throw unreachable;
  }
  if (result.response.ok) {
    return result.data as T;
  }
  const problem = result.error as Partial<Problem> | undefined;
  throw new CallError(
    problem?.code ?? "unknown",
    problem?.detail ?? `The service answered ${result.response.status}.`,
    problem?.next_step ?? "Look at the service's log.",
  );
}

/** Puts a file at an address of the API; none removes what is there. */
export function putFile(path: string, file: File | null): Promise<void> {
  const sent = globalThis.fetch(path, file ? { method: "PUT", body: file } : { method: "DELETE" });
  return answer(
    sent.then(async (response) => ({ response, error: response.ok ? undefined : ((await response.json()) as unknown) })),
  );
}
