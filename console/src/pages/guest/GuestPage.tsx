import type { GuestPage as Page, GuestState } from "../../api/types";
import { useGuestPage } from "../../api/keys";
import { KeyFields } from "../../components/KeyFields";
import { Lamp } from "../../components/Lamp";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { Wordmark } from "../../components/Wordmark";
import { bitrate, moment } from "../../lib/format";
import { keyRules, keyState } from "../../lib/keys";
import type { Tone } from "../../lib/state";

const SEEN: Record<GuestState, { tone: Tone; text: string }> = {
  not_here: { tone: "idle", text: "We do not see you yet." },
  connected: { tone: "trouble", text: "You are connected; your stream is still being understood." },
  received: { tone: "good", text: "We see you. Another encoder is on air." },
  on_air: { tone: "good", text: "We see you: you are on air." },
  watching: { tone: "good", text: "You are watching." },
};

/** Where a guest's link leads: what opens it stands behind the #, which browsers send to nobody. */
export function GuestPage() {
  const page = useGuestPage(window.location.hash.slice(1));
  return (
    <main className="mx-auto min-h-dvh w-full max-w-xl p-4">
      <div className="mb-6">
        <Wordmark />
      </div>
      {page.isPending && <LoadingNote />}
      {page.error ? <ErrorNote error={page.error} /> : page.data && <Shown page={page.data} />}
    </main>
  );
}

function Shown({ page }: { page: Page }) {
  const { tone, text } = keyState(page);
  const rules = keyRules(page);
  return (
    <div className="space-y-4">
      <header>
        <p className="eyebrow">{page.title}</p>
        <h1 className="text-xl font-semibold">{page.label}</h1>
      </header>
      <Seen page={page} />
      <section className="panel p-4 sm:p-5">
        <p className="mb-4 text-sm text-base-content/75">{page.right === "view" ? "Paste these into your player." : "Paste these into your encoder."}</p>
        <KeyFields fields={page.encoder} right={page.right} isKeyHidden />
      </section>
      <section className="panel p-4 text-sm sm:p-5">
        <p className="flex items-center gap-2 font-medium">
          <Lamp tone={tone} /> The key {text}.
        </p>
        {rules.length > 0 && <p className="mt-1 text-base-content/75">{rules.join(" · ")}</p>}
        <p className="mt-1 text-base-content/75">This page is for you alone, and ends {moment(page.link_until)}. Whoever has it can {page.right === "view" ? "watch" : "publish"} in your place.</p>
      </section>
    </div>
  );
}

function Seen({ page: { seen, turned_away } }: { page: Page }) {
  const { tone, text } = SEEN[seen.state];
  return (
    <section className="panel p-4 sm:p-5" aria-live="polite">
      <p className="flex items-center gap-3 text-lg font-semibold">
        <Lamp tone={tone} large /> {text}
      </p>
      {seen.encoder && (
        <p className="mt-1 text-sm text-base-content/75">
          {seen.encoder} from {seen.address}
          {seen.stream && ` · ${seen.stream}`}
          {seen.bitrate_bps ? ` · ${bitrate(seen.bitrate_bps)}` : ""}
        </p>
      )}
      {turned_away && (
        <p className="mt-2 text-sm text-error">
          {moment(turned_away.at)}: you came from {turned_away.address} and were turned away. {turned_away.reason}
        </p>
      )}
    </section>
  );
}
