import { useState } from "react";
import { type Whose, useHouseSystem, useRemoveHouseSystem } from "../../api/houseSystems";
import { OnChannel } from "../../api/may";
import type { HouseSystem } from "../../api/types";
import { Allowed } from "../../components/Allowed";
import { EmptyNote, ErrorNote, LoadingNote } from "../../components/Notes";
import { moment } from "../../lib/format";
import { Section } from "../channel/Section";
import { NewSecret } from "./NewSecret";
import { SetSystem } from "./SetSystem";
import { TrySystem } from "./TrySystem";
import { ABOUT, UNKNOWN_KEYS, WHEN_SILENT, aboutOf } from "./systemForm";

const word = (options: readonly (readonly [string, string])[], value: string | undefined) => options.find(([known]) => known === value)?.[1] ?? "";

/** How it does, in a line. */
function Condition({ system }: { system: HouseSystem }) {
  const { condition, rules } = system;
  if (!rules.is_on) return <span className="badge badge-sm">not asked for now</span>;
  if (condition.is_resting) return <span className="badge badge-error badge-sm">does not answer; left alone for a while</span>;
  if (!condition.asked) return <span className="badge badge-sm">not asked yet</span>;
  const isSilent = (condition.silent_at ?? "") > (condition.answered_at ?? "");
  return <span className={`badge badge-sm ${isSilent ? "badge-warning" : "badge-success"}`}>{isSilent ? "did not answer last" : `answered last in ${condition.took_ms} ms`}</span>;
}

function Facts({ system }: { system: HouseSystem }) {
  const { rules, condition } = system;
  const unknown = rules.unknown_keys && rules.unknown_keys !== "not_asked" ? word(UNKNOWN_KEYS, rules.unknown_keys).toLowerCase() : undefined;
  return (
    <div className="space-y-1.5 px-4 py-3 text-sm sm:px-5">
      <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <span className="font-mono [overflow-wrap:anywhere]">{rules.address}</span>
        <Condition system={system} />
      </p>
      <p className="text-base-content/75">
        About {word(ABOUT, aboutOf({ publishers: rules.publishers ?? true, players: rules.players ?? false })).toLowerCase()}
        {unknown && `; of keys that are not known: ${unknown}`}. While it does not answer: {word(WHEN_SILENT, rules.when_silent).toLowerCase()}.{" "}
        {rules.again_s ? `Asked again every ${rules.again_s >= 60 ? `${rules.again_s / 60} min` : `${rules.again_s} s`}.` : ""}
      </p>
      {condition.asked > 0 && (
        <p className="text-base-content/75">
          Asked {condition.asked}×, {condition.silent}× in vain.
          {condition.silence && condition.silent_at && ` Last at ${moment(condition.silent_at)}: ${condition.silence}.`}
        </p>
      )}
    </div>
  );
}

/** The system that is asked before somebody is let in: of a channel, or of the house. */
export function AskedSystem({ whose }: { whose?: Whose }) {
  const state = useHouseSystem(whose);
  const remove = useRemoveHouseSystem(whose);
  const [open, setOpen] = useState<"set" | "try">();
  const [secret, setSecret] = useState<string>();
  const system = state.data?.system ?? undefined;
  const ofHouse = state.data?.of_house ?? undefined;
  const buttons = (
    <div className="flex flex-wrap justify-end gap-1">
      {system && (
        <button type="button" className="btn btn-ghost btn-sm" disabled={remove.isPending} onClick={() => remove.mutate(undefined)}>
          Ask no more
        </button>
      )}
      {system && (
        <button type="button" className="btn btn-sm" onClick={() => setOpen("try")}>
          Try it
        </button>
      )}
      <button type="button" className="btn btn-sm" onClick={() => setOpen("set")}>
        {system ? "Change" : "Ask a system"}
      </button>
    </div>
  );
  // Where calls lead is for the house to say, also those about one channel.
  const action = (
    <OnChannel value={undefined}>
      <Allowed least="engineer">{buttons}</Allowed>
    </OnChannel>
  );
  return (
    <Section title="Asked before somebody is let in" action={action}>
      {state.isPending && <LoadingNote />}
      {(state.error ?? remove.error) && (
        <div className="p-4">
          <ErrorNote error={state.error ?? remove.error} />
        </div>
      )}
      {system && <Facts system={system} />}
      {!system && ofHouse && (
        <>
          <p className="px-4 pt-3 text-sm text-base-content/75 sm:px-5">This channel has none of its own: that of the house is asked.</p>
          <Facts system={ofHouse} />
        </>
      )}
      {state.data && !system && !ofHouse && <EmptyNote title="Nobody: the keys alone decide.">A system of yours, such as a member list, can be asked besides, and say who it is, where it goes, and for how long.</EmptyNote>}
      {open === "set" && <SetSystem whose={whose} present={system?.rules} onSecret={setSecret} onClose={() => setOpen(undefined)} />}
      {open === "try" && <TrySystem whose={whose} onClose={() => setOpen(undefined)} />}
      {secret && <NewSecret of="questions" secret={secret} onClose={() => setSecret(undefined)} />}
    </Section>
  );
}
