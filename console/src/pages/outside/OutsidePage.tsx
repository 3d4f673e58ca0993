import { Radar } from "lucide-react";
import { useOutside, useTryFromOutside } from "../../api/queries";
import type { DoorOutside, FilterRemedy, NameVerdict, Outside } from "../../api/types";
import { CodeBlock } from "../../components/CodeBlock";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { TermRow } from "../../components/TermRow";
import { moment } from "../../lib/format";
import { Section } from "../channel/Section";
import { OUTCOMES, PURPOSES, SCOPES, VERDICTS } from "./words";

const LEADS_HERE: NameVerdict[] = ["ours", "behind"];

/** Addresses, name and packet filter. */
function Place({ outside }: { outside: Outside }) {
  const { name, filter, answerer } = outside;
  const outer = outside.addresses.filter((own) => own.scope !== "loopback");
  return (
    <Section title="This machine">
      <dl className="divide-y divide-base-300">
        <TermRow label="Addresses">
          {outer.length === 0 && "none but that of the machine itself"}
          {outer.map((own) => (
            <p key={`${own.interface} ${own.address}`}>
              <span className="font-mono">{own.address}</span> <span className="text-base-content/70">{`${own.interface}, ${SCOPES[own.scope]}`}</span>
            </p>
          ))}
        </TermRow>
        <TermRow label="Public name">
          {name ? (
            <>
              <p>
                <span className="font-mono">{name.name}</span>
                {name.addresses.length > 0 && <span className="text-base-content/70"> at {name.addresses.join(", ")}</span>}
              </p>
              <p className={LEADS_HERE.includes(name.verdict) ? "text-base-content/75" : "text-error"}>{name.told}</p>
            </>
          ) : (
            <span className="text-base-content/75">There is none: set <code>host</code> in [house] of the settings.</span>
          )}
        </TermRow>
        <TermRow label="Packet filter">{filter.told}</TermRow>
        <TermRow label="Helper out there">
          {answerer ? (
            <>
              <p className="font-mono">{answerer.address}</p>
              {answerer.fault && <p className="text-error">{answerer.fault}</p>}
              {answerer.seen_as.length > 0 && <p className="text-base-content/75">It saw us come from {answerer.seen_as.join(" and ")}.</p>}
              {!answerer.fault && answerer.seen_as.length === 0 && <p className="text-base-content/75">It was not asked yet.</p>}
            </>
          ) : (
            <span className="text-base-content/75">
              There is none. Run <code>waverantd answer</code> on any machine outside, and name it in [outside] of the settings: then the doors can be tried from there.
            </span>
          )}
        </TermRow>
      </dl>
    </Section>
  );
}

function Door({ door }: { door: DoorOutside }) {
  const verdict = VERDICTS[door.verdict];
  return (
    <li className="grid gap-x-4 gap-y-1 px-4 py-3 text-sm sm:grid-cols-[13rem_9rem_1fr] sm:px-5">
      <div>
        <p className="font-medium">{PURPOSES[door.name] ?? door.name}</p>
        <p className="font-mono text-xs text-base-content/70">{`${door.transport} ${door.port}`}</p>
      </div>
      <p>
        <span className={`badge badge-sm ${verdict.tone}`}>{verdict.word}</span>
      </p>
      <div className="min-w-0 [overflow-wrap:anywhere]">
        <p>{door.told}</p>
        {door.tries.map((one) => (
          <p key={one.address} className="text-base-content/70">{`called at ${one.address}: ${OUTCOMES[one.outcome]} after ${one.after_ms} ms`}</p>
        ))}
        {door.reached && <p className="text-base-content/70">{`last from out there: ${door.reached.address} at ${moment(door.reached.at)}`}</p>}
      </div>
    </li>
  );
}

function Remedy({ remedy }: { remedy: FilterRemedy }) {
  return (
    <div className="px-4 py-3 sm:px-5">
      <CodeBlock title={remedy.filter}>{remedy.commands.join("\n")}</CodeBlock>
      {remedy.note && <p className="mt-1 text-sm text-base-content/70">{remedy.note}</p>}
    </div>
  );
}

/** Whether the house can be reached from outside, and what keeps people out. */
export function OutsidePage() {
  const outside = useOutside();
  const tries = useTryFromOutside();
  if (outside.isPending) return <LoadingNote />;
  if (outside.error) return <ErrorNote error={outside.error} />;
  const found = outside.data;
  return (
    <>
      <div className="mb-5 flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-2xl font-semibold tracking-tight">Seen from outside</h1>
        {found.answerer && (
          <button type="button" className="btn btn-sm" disabled={tries.isPending} onClick={() => tries.mutate(undefined)}>
            <Radar aria-hidden className={`size-4 ${tries.isPending ? "motion-safe:animate-spin" : ""}`} />
            {tries.isPending ? "The doors are tried" : "Try the doors from outside"}
          </button>
        )}
      </div>
      <div className="space-y-5">
        {tries.error && <ErrorNote error={tries.error} />}
        <Section title="Doors">
          <ul className="divide-y divide-base-300">
            {found.doors.map((door) => (
              <Door key={door.name} door={door} />
            ))}
          </ul>
        </Section>
        {found.remedies.length > 0 && (
          <Section title="To open what is shut, as root">
            <div className="divide-y divide-base-300">
              {found.remedies.map((remedy) => (
                <Remedy key={remedy.filter} remedy={remedy} />
              ))}
            </div>
          </Section>
        )}
        <Place outside={found} />
      </div>
    </>
  );
}
