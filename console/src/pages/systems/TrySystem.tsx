import type { FormEvent } from "react";
import { type Whose, useTryHouseSystem } from "../../api/houseSystems";
import type { HouseSystemTry, KeyRight, Protocol } from "../../api/types";
import { CodeBlock } from "../../components/CodeBlock";
import { Dialog } from "../../components/Dialog";
import { DoneAction } from "../../components/DoneAction";
import { Field, fieldText } from "../../components/Field";
import { ErrorNote } from "../../components/Notes";
import { Select } from "../../components/Select";
import { legible } from "./systemForm";

function Outcome({ tried }: { tried: HouseSystemTry }) {
  const { answer } = tried;
  const head = tried.headers.map(({ name, value }) => `${name}: ${value}`).join("\n");
  const tone = tried.is_good ? (tried.lets_in ? "alert-success" : "alert-warning") : "alert-error";
  return (
    <div className="space-y-4" aria-live="polite">
      <p className={`alert ${tone} alert-soft text-sm`}>{tried.meaning}</p>
      <div className="grid gap-4 sm:grid-cols-2">
        <CodeBlock title="Question">{`POST ${tried.address}\n${head}\n\n${legible(tried.question)}`}</CodeBlock>
        <CodeBlock title={answer ? `Answer, after ${answer.took_ms} ms` : "Answer"}>
          {answer ? `${answer.status} ${answer.content_type ?? ""}\n\n${legible(answer.body)}` : "none"}
        </CodeBlock>
      </div>
    </div>
  );
}

/** Asks about somebody made up, and shows what was sent and what came back. */
export function TrySystem({ whose, onClose }: { whose: Whose; onClose: () => void }) {
  const attempt = useTryHouseSystem(whose);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const text = (name: string) => fieldText(form, name) || undefined;
    attempt.mutate({
      right: fieldText(form, "right") as KeyRight,
      protocol: fieldText(form, "protocol") as Protocol,
      address: text("address"),
      label: text("label"),
      channel: text("channel"),
      unknown_key: text("unknown_key"),
    });
  };
  return (
    <Dialog title="Try it" isWide onClose={onClose}>
      <p className="mb-4 text-sm text-base-content/75">It is asked about somebody made up; nobody comes in by it. The question says that it is a try.</p>
      <form className="space-y-4" onSubmit={onSubmit}>
        <div className="grid gap-4 sm:grid-cols-3">
          <Select
            label="Wants to"
            name="right"
            options={[
              ["publish", "publish"],
              ["view", "watch"],
            ]}
          />
          <Select
            label="Over"
            name="protocol"
            options={[
              ["rtmp", "RTMP"],
              ["rtmps", "RTMPS"],
              ["srt", "SRT"],
            ]}
          />
          <Field label="From" name="address" placeholder="192.0.2.1" />
          <Field label="Label of its key" name="label" placeholder="Somebody made up" />
          {!whose && <Field label="Channel of its key" name="channel" placeholder="none" />}
          {!whose && <Field label="Or a key that is not known" name="unknown_key" placeholder="none" />}
        </div>
        <button type="submit" className="btn btn-primary" disabled={attempt.isPending}>
          {attempt.isPending ? "Asking" : "Ask"}
        </button>
      </form>
      <div className="mt-5 space-y-4">
        {attempt.error && <ErrorNote error={attempt.error} />}
        {attempt.data && <Outcome tried={attempt.data} />}
      </div>
      <DoneAction onClose={onClose} />
    </Dialog>
  );
}
