import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api, putFile } from "./client";
import { inApi } from "./place";
import type {
  AcceptInvitation,
  AddChannel,
  AddDestination,
  AddPerson,
  AddToken,
  AddViewingLink,
  AuthenticatorCode,
  Administrator,
  AskPasskey,
  BeginRehearsal,
  CarryOutRemedy,
  ChangeChannel,
  ChangeDestination,
  ChangePassword,
  ChangePerson,
  ChangeSending,
  ChangeTake,
  Complaint,
  CutTake,
  NewPasskey,
  PlannedShows,
  PresentPassword,
  SignIn,
} from "./types";

/** What names a take. */
export type TakeName = { session: number; number: number };

export const inChannel = (channel: string) => ({ params: { path: { channel } } });

export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: () => answer(api.GET("/api/v1/me")), retry: false, staleTime: Infinity });
}

export function useFirstRun() {
  return useQuery({ queryKey: ["first-run"], queryFn: () => answer(api.GET("/api/v1/first-run")) });
}

export function useChannel(channel: string) {
  return useQuery({
    queryKey: ["channel", channel],
    queryFn: () => answer(api.GET("/api/v1/channels/{channel}", inChannel(channel))),
  });
}

export function useDestinations() {
  return useQuery({ queryKey: ["destinations"], queryFn: () => answer(api.GET("/api/v1/destinations")) });
}

/** Tells the key of a destination. */
export function useReveal(destination: string) {
  return useMutation({
    mutationFn: (body: PresentPassword) => answer(api.POST("/api/v1/destinations/{destination}/reveal", { params: { path: { destination } }, body })),
    // It is kept no longer than the dialog is open.
    gcTime: 0,
  });
}

/** Says whether findings of a code are told for the rest of the show. */
export function useMute(channel: string) {
  return useMutation({
    mutationFn: ({ code, isMuted }: { code: string; isMuted: boolean }) => {
      const place = { params: { path: { channel, code } } };
      const path = "/api/v1/channels/{channel}/muted-findings/{code}";
      return answer(isMuted ? api.PUT(path, place) : api.DELETE(path, place));
    },
  });
}

/** Has done what a finding offers. */
export function useRemedy(channel: string) {
  return useChange((form: CarryOutRemedy) => answer(api.POST("/api/v1/channels/{channel}/remedies", { params: { path: { channel } }, body: form })), ["destinations"]);
}

/** Asks what a platform's complaint may be. */
export function useComplaint() {
  return useMutation({ mutationFn: (body: Complaint) => answer(api.POST("/api/v1/findings/ask", { body })) });
}

/** Reckons what planned shows need. */
export function useCapacity() {
  return useMutation({ mutationFn: (body: PlannedShows) => answer(api.POST("/api/v1/capacity", { body })) });
}

/** The newest lines of the log; asked for again every two seconds. */
export function useLog(filter: { level: string; text?: string }) {
  return useQuery({
    queryKey: ["log", filter],
    queryFn: () => answer(api.GET("/api/v1/log", { params: { query: { ...filter, limit: 200 } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 2000,
  });
}

export function useMeanings() {
  return useQuery({ queryKey: ["meanings"], queryFn: () => answer(api.GET("/api/v1/findings/meanings")), staleTime: Infinity });
}

export function useSessions(channel: string) {
  return useQuery({
    queryKey: ["channel", channel, "sessions"],
    queryFn: () => answer(api.GET("/api/v1/sessions", { params: { query: { channel, limit: 20 } } })),
    refetchInterval: 5000,
  });
}

export function useSession(session: number) {
  return useQuery({
    queryKey: ["session", session],
    queryFn: () => answer(api.GET("/api/v1/sessions/{session}", { params: { path: { session } } })),
    refetchInterval: 5000,
  });
}

export function useReport(session: number) {
  return useQuery({
    queryKey: ["session", session, "report"],
    queryFn: () => answer(api.GET("/api/v1/sessions/{session}/report", { params: { path: { session } } })),
    refetchInterval: 5000,
    retry: false,
  });
}

/** Which part of a show's timeline. */
export type ShowRange = { from_s?: number; until_s?: number; last_s?: number; beside?: number };

/** Figures of a show over time; of one that goes on, asked for again every two seconds. */
export function useShowTimeline(session: number, query: ShowRange, isFollowed: boolean) {
  return useQuery({
    queryKey: ["session", session, "timeline", query],
    queryFn: () => answer(api.GET("/api/v1/sessions/{session}/timeline", { params: { path: { session }, query } })),
    placeholderData: keepPreviousData,
    refetchInterval: isFollowed ? 2000 : false,
  });
}

/** Figures of the machine over the last hours, or between two moments in seconds since 1970. */
export function useMachineTimeline(hours: number, zoom: readonly [number, number] | undefined) {
  const at = (second: number) => new Date(second * 1000).toISOString();
  return useQuery({
    queryKey: ["machine", "timeline", hours, zoom],
    queryFn: () => {
      const now = Math.floor(Date.now() / 1000);
      const [from, until] = zoom ?? [now - hours * 3600, now];
      return answer(api.GET("/api/v1/machine/timeline", { params: { query: { from: at(from), until: at(until) } } }));
    },
    placeholderData: keepPreviousData,
    refetchInterval: zoom ? false : 5000,
  });
}

export type TakeFilter = { channel?: string; from?: string; until?: string; min_ms?: number; removed?: boolean; limit: number };

const inTake = ({ session, number }: { session: number; number: number }) => ({ params: { path: { session, number } } });

export function useTakes(filter: TakeFilter) {
  return useQuery({
    queryKey: ["takes", filter],
    queryFn: () => answer(api.GET("/api/v1/takes", { params: { query: filter } })),
    refetchInterval: 5000,
    placeholderData: keepPreviousData,
  });
}

export function useTake(session: number, number: number) {
  return useQuery({
    queryKey: ["takes", session, number],
    queryFn: () => answer(api.GET("/api/v1/takes/{session}/{number}", inTake({ session, number }))),
  });
}

export function useChangeTake(take: TakeName) {
  return useChange((form: ChangeTake) => answer(api.PATCH("/api/v1/takes/{session}/{number}", { ...inTake(take), body: form })), ["takes"]);
}

export function useRemoveTake() {
  return useChange((take: TakeName) => answer(api.DELETE("/api/v1/takes/{session}/{number}", inTake(take))), ["takes"]);
}

export function useUndoRemoval() {
  return useChange((take: TakeName) => answer(api.POST("/api/v1/takes/{session}/{number}/undo-removal", inTake(take))), ["takes"]);
}

export function useCutTake(take: TakeName) {
  return useChange((form: CutTake) => answer(api.POST("/api/v1/takes/{session}/{number}/cut", { ...inTake(take), body: form })), []);
}

export function useCheckTake(take: TakeName) {
  return useMutation({ mutationFn: () => answer(api.POST("/api/v1/takes/{session}/{number}/check", inTake(take))) });
}

export function useRestoreTake(take: TakeName) {
  return useMutation({ mutationFn: () => answer(api.POST("/api/v1/takes/{session}/{number}/restore", inTake(take))) });
}

export function useMendTake(take: TakeName) {
  return useChange(() => answer(api.POST("/api/v1/takes/{session}/{number}/mend", inTake(take))), ["takes"]);
}

/** Follows a job until it is over. */
export function useJob(job: number | undefined) {
  const client = useQueryClient();
  return useQuery({
    queryKey: ["job", job],
    enabled: job !== undefined,
    queryFn: async () => {
      const report = await answer(api.GET("/api/v1/jobs/{job}", { params: { path: { job: job ?? 0 } } }));
      if (report.state === "done") void client.invalidateQueries({ queryKey: ["takes"] });
      return report;
    },
    refetchInterval: ({ state }) => (state.data?.state === "done" || state.data?.state === "failed" ? false : 300),
  });
}

export function useDepots() {
  return useQuery({ queryKey: ["depots"], queryFn: () => answer(api.GET("/api/v1/depots")) });
}

/** Begins or ends the recording of what is on air, or marks a moment of it. */
export function useRecorder(channel: string) {
  const start = useChange(() => answer(api.POST("/api/v1/channels/{channel}/recording/start", inChannel(channel))), ["takes"]);
  const stop = useChange(() => answer(api.POST("/api/v1/channels/{channel}/recording/stop", inChannel(channel))), ["takes"]);
  const mark = useChange(
    (title: string) => answer(api.POST("/api/v1/channels/{channel}/recording/marks", { ...inChannel(channel), body: { title } })),
    ["takes"],
  );
  return { start, stop, mark };
}

export function useTurnedAway() {
  return useQuery({
    queryKey: ["turned-away"],
    queryFn: () => answer(api.GET("/api/v1/turned-away", { params: { query: { limit: 100 } } })),
    refetchInterval: 5000,
  });
}

/** Which of the things that people did to tell; what is left out does not matter. */
export type ActFilter = { person?: string; channel?: string; what?: string; outcome?: string };

export function useActs(filter: ActFilter) {
  return useInfiniteQuery({
    queryKey: ["acts", filter],
    queryFn: ({ pageParam }) => answer(api.GET("/api/v1/acts", { params: { query: { ...filter, before: pageParam, limit: 50 } } })),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
  });
}

export function useChannelActs(channel: string) {
  return useQuery({
    queryKey: ["acts", { channel }],
    queryFn: () => answer(api.GET("/api/v1/channels/{channel}/acts", { params: { path: { channel }, query: { limit: 20 } } })),
    refetchInterval: 5000,
  });
}

/** A change; afterwards everything under `stale` is asked for anew. */
export function useChange<Form, Result>(change: (form: Form) => Promise<Result>, stale: readonly string[]) {
  const client = useQueryClient();
  return useMutation({ mutationFn: change, onSuccess: () => client.invalidateQueries({ queryKey: [...stale] }) });
}

export function useSignIn() {
  return useChange((form: SignIn) => answer(api.POST("/api/v1/sign-in", { body: form })), []);
}

export function useCompleteFirstRun() {
  return useChange((form: Administrator) => answer(api.POST("/api/v1/first-run", { body: form })), []);
}

export function useSignOut() {
  return useChange(() => answer(api.POST("/api/v1/sign-out")), []);
}

const SECOND_FACTOR = "/api/v1/me/second-factor";

export function useSecondFactor() {
  return useQuery({ queryKey: ["second-factor"], queryFn: () => answer(api.GET(SECOND_FACTOR)) });
}

/** Makes a key for an authenticator. */
export function useBeginSecondFactor() {
  return useMutation({ mutationFn: (body: PresentPassword) => answer(api.POST(SECOND_FACTOR, { body })) });
}

/** Gives the first code of a new key. */
export function useConfirmSecondFactor() {
  return useMutation({ mutationFn: (body: AuthenticatorCode) => answer(api.POST(`${SECOND_FACTOR}/confirm`, { body })) });
}

export function useRenewRecoveryCodes() {
  return useChange((body: PresentPassword) => answer(api.POST(`${SECOND_FACTOR}/recovery-codes`, { body })), ["second-factor"]);
}

export function useRemoveSecondFactor() {
  return useChange((body: PresentPassword) => answer(api.POST(`${SECOND_FACTOR}/removal`, { body })), []);
}

/** Asks for what a browser needs to make a passkey. */
export function useBeginPasskey() {
  return useMutation({ mutationFn: (body: PresentPassword) => answer(api.POST(`${SECOND_FACTOR}/passkeys`, { body })) });
}

/** Keeps a passkey that the browser made. */
export function useConfirmPasskey() {
  return useMutation({ mutationFn: (body: NewPasskey) => answer(api.POST(`${SECOND_FACTOR}/passkeys/confirm`, { body })) });
}

export function useRemovePasskey() {
  return useMutation({
    mutationFn: ({ id, proof }: { id: number; proof: PresentPassword }) =>
      answer(api.POST(`${SECOND_FACTOR}/passkeys/{passkey}/removal`, { params: { path: { passkey: id } }, body: proof })),
  });
}

/** What a passkey is to be asked of whoever is signed in. */
export function useAskOwnPasskey() {
  return useMutation({ mutationFn: () => answer(api.POST(`${SECOND_FACTOR}/challenge`)) });
}

/** What a passkey is to be asked of who signs in. */
export function useAskPasskey() {
  return useMutation({ mutationFn: (body: AskPasskey) => answer(api.POST("/api/v1/sign-in/passkey", { body })) });
}

/** Everybody of the crew. */
export function usePeople() {
  return useQuery({ queryKey: ["people"], queryFn: () => answer(api.GET("/api/v1/people")), refetchInterval: 10_000 });
}

export function useAddPerson() {
  return useChange((form: AddPerson) => answer(api.POST("/api/v1/people", { body: form })), ["people"]);
}

const ofPerson = (person: string) => ({ params: { path: { person } } });

export function useChangePerson() {
  return useChange(({ name, ...body }: ChangePerson & { name: string }) => answer(api.PATCH("/api/v1/people/{person}", { ...ofPerson(name), body })), ["people"]);
}

export function useInvitePerson() {
  return useChange(
    ({ name, ...body }: { name: string; drops_second_factor?: boolean }) => answer(api.POST("/api/v1/people/{person}/invitation", { ...ofPerson(name), body })),
    ["people"],
  );
}

export function useRemovePerson() {
  return useChange((name: string) => answer(api.DELETE("/api/v1/people/{person}", ofPerson(name))), ["people"]);
}

/** Whom a one-time code invites. */
export function useInvited(code: string) {
  return useQuery({ queryKey: ["invited", code], queryFn: () => answer(api.POST("/api/v1/invitations/look", { body: { code } })), retry: false, staleTime: Infinity });
}

export function useAcceptInvitation() {
  return useMutation({ mutationFn: (form: AcceptInvitation) => answer(api.POST("/api/v1/invitations/accept", { body: form })) });
}

/** The certificate in use, and how the next one is had. */
export function useCertificate() {
  return useQuery({ queryKey: ["certificate"], queryFn: () => answer(api.GET("/api/v1/certificate")), refetchInterval: 2000 });
}

export function useRenewCertificate() {
  return useChange(() => answer(api.POST("/api/v1/certificate/renewal")), ["certificate"]);
}

/** Whether the house can be reached from outside, as far as this machine knows. */
export function useOutside() {
  return useQuery({ queryKey: ["outside"], queryFn: () => answer(api.GET("/api/v1/outside")), staleTime: 30_000 });
}

/** Has the doors tried from outside; what was found takes the place of what was known. */
export function useTryFromOutside() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () => answer(api.POST("/api/v1/outside/tries")),
    onSuccess: (found) => queries.setQueryData(["outside"], found),
  });
}

/** Where one is signed in. */
export function useSignIns() {
  return useQuery({ queryKey: ["sign-ins"], queryFn: () => answer(api.GET("/api/v1/tokens")), refetchInterval: 10_000 });
}

/** Makes a token for a program; what it is, is told in the answer alone. */
export function useAddToken() {
  return useChange((form: AddToken) => answer(api.POST("/api/v1/tokens", { body: form })), ["sign-ins"]);
}

export function useEndSignIn() {
  return useChange((token: number) => answer(api.DELETE("/api/v1/tokens/{token}", { params: { path: { token } } })), ["sign-ins"]);
}

export function useEndOtherSignIns() {
  return useChange(() => answer(api.DELETE("/api/v1/tokens")), ["sign-ins"]);
}

export function useChangePassword() {
  return useChange((form: ChangePassword) => answer(api.PUT("/api/v1/me/password", { body: form })), ["sign-ins"]);
}

export function useAddChannel() {
  return useChange((form: AddChannel) => answer(api.POST("/api/v1/channels", { body: form })), []);
}

export function useViewingLinks(channel: string) {
  return useQuery({
    queryKey: ["channel", channel, "links"],
    queryFn: () => answer(api.GET("/api/v1/channels/{channel}/links", inChannel(channel))),
    refetchInterval: 5000,
  });
}

export function useAddViewingLink(channel: string) {
  return useChange(
    (form: AddViewingLink) => answer(api.POST("/api/v1/channels/{channel}/links", { ...inChannel(channel), body: form })),
    ["channel", channel],
  );
}

export function useRemoveViewingLink(channel: string) {
  return useChange(
    (link: number) => answer(api.DELETE("/api/v1/channels/{channel}/links/{link}", { params: { path: { channel, link } } })),
    ["channel", channel],
  );
}

/** Puts a poster on a channel's page; none removes it. */
export function useChangePoster(channel: string) {
  return useChange(
    (poster: File | null) => putFile(inApi(`/channels/${encodeURIComponent(channel)}/poster`), poster),
    ["channel", channel],
  );
}

/** How many watched in the last hour, minute by minute. */
export function useViewerMinutes(channel: string) {
  return useQuery({
    queryKey: ["channel", channel, "viewers"],
    queryFn: () =>
      answer(api.GET("/api/v1/channels/{channel}/viewers", { params: { path: { channel }, query: { hours: 1 } } })),
    refetchInterval: 60_000,
  });
}

export function useAddDestination() {
  return useChange((form: AddDestination) => answer(api.POST("/api/v1/destinations", { body: form })), [
    "destinations",
  ]);
}

export function useChangeDestination(destination: string) {
  return useChange(
    (form: ChangeDestination) =>
      answer(api.PATCH("/api/v1/destinations/{destination}", { params: { path: { destination } }, body: form })),
    ["destinations"],
  );
}

export function useTryDestination(destination: string) {
  return useMutation({
    mutationFn: (publishes: boolean) =>
      answer(
        api.POST("/api/v1/destinations/{destination}/try", {
          params: { path: { destination } },
          body: { publishes },
        }),
      ),
  });
}

export function useChangeChannel(channel: string) {
  return useChange(
    (form: ChangeChannel) => answer(api.PATCH("/api/v1/channels/{channel}", { ...inChannel(channel), body: form })),
    ["channel", channel],
  );
}

export function useUploadSlate(channel: string) {
  return useChange(
    (file: File) =>
      answer(
        api.PUT("/api/v1/channels/{channel}/slate", {
          ...inChannel(channel),
          // The file goes as it is; the type that is made from the API only knows numbers.
          body: file as unknown as number[],
          bodySerializer: (body) => body as unknown as File,
          headers: { "content-type": "video/mp4" },
        }),
      ),
    ["channel", channel],
  );
}

export function useRehearse(channel: string) {
  return useChange(
    (form: BeginRehearsal) =>
      answer(api.POST("/api/v1/channels/{channel}/rehearsals", { ...inChannel(channel), body: form })),
    ["channel", channel],
  );
}

/** Changes how a channel sends to a destination. */
export function useSending(channel: string) {
  return useChange(
    ({ destination, ...body }: ChangeSending & { destination: string }) =>
      answer(
        api.PUT("/api/v1/channels/{channel}/destinations/{destination}", {
          params: { path: { channel, destination } },
          body,
        }),
      ),
    ["channel", channel],
  );
}

export function useSwitch(channel: string) {
  const sending = useSending(channel);
  const mutate = ({ destination, isOn }: { destination: string; isOn: boolean }) =>
    sending.mutate({ destination, is_on: isOn });
  const mutateAsync = ({ destination, isOn }: { destination: string; isOn: boolean }) =>
    sending.mutateAsync({ destination, is_on: isOn });
  return { mutate, mutateAsync, isPending: sending.isPending, error: sending.error };
}

export function useUnlink(channel: string) {
  return useChange(
    (destination: string) =>
      answer(
        api.DELETE("/api/v1/channels/{channel}/destinations/{destination}", {
          params: { path: { channel, destination } },
        }),
      ),
    ["channel", channel],
  );
}

export function useEndSession(channel: string) {
  return useChange(
    () => answer(api.POST("/api/v1/channels/{channel}/end-session", inChannel(channel))),
    ["channel", channel],
  );
}
