import type { FormEvent } from "react";
import { useCapacity } from "../../api/queries";
import type { CapacityAnswer, ResourceAnswer } from "../../api/types";
import { Field, fieldText } from "../../components/Field";
import { ErrorNote } from "../../components/Notes";
import { amount, verdict } from "../../lib/capacity";
import { size } from "../../lib/format";
import { Section } from "../channel/Section";

const TONES: Record<ResourceAnswer["verdict"], string> = {
  enough: "text-success",
  tight: "text-warning",
  too_little: "text-error",
  not_known: "text-base-content/65",
};

function Answer({ answer }: { answer: CapacityAnswer }) {
  const { first, month_sent_bytes: sent, month_recorded_bytes: recorded, month_money: money } = answer;
  return (
    <div className="overflow-x-auto border-t border-base-300">
      <table className="table table-sm [&_:is(td,th):first-child]:pl-5 [&_:is(td,th):last-child]:pr-5">
        <thead>
          <tr>
            <th>Of</th>
            <th className="text-right">Used now</th>
            <th className="text-right">Left</th>
            <th className="text-right">The plan needs</th>
            <th>Enough</th>
            <th className="text-right">Shows like that</th>
          </tr>
        </thead>
        <tbody>
          {answer.resources.map((row) => (
            <tr key={row.resource}>
              <td className="font-medium capitalize">{row.resource}</td>
              <td className="text-right">{amount(row.unit, row.used)}</td>
              <td className="text-right">{amount(row.unit, row.left)}</td>
              <td className="text-right">{amount(row.unit, row.needed)}</td>
              <td className={`font-medium ${TONES[row.verdict]}`}>{verdict(row.verdict)}</td>
              <td className="text-right">{row.shows ?? "–"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="px-5 py-3 text-sm text-base-content/75">
        {first && `What gives first: ${first}. `}In a month: {size(sent)} sent, {size(recorded)} recorded
        {money > 0 && `, ${money.toFixed(2)} in money`}. A fifth of each is to stay free.
      </p>
    </div>
  );
}

const number = (form: HTMLFormElement, name: string) => Number(fieldText(form, name)) || 0;

/** What planned shows need, beside what runs. */
export function Capacity({ knowsUplink }: { knowsUplink: boolean }) {
  const ask = useCapacity();
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const uplink = number(form, "uplink");
    ask.mutate({
      shows: number(form, "shows"),
      bitrate_bps: Math.round(number(form, "bitrate") * 1e6),
      destinations: number(form, "destinations"),
      viewers: number(form, "viewers"),
      hours: number(form, "hours"),
      shows_a_month: number(form, "month"),
      uplink_bps: uplink > 0 ? Math.round(uplink * 1e6) : null,
      price_sent_tb: number(form, "sent"),
      price_kept_tb_month: number(form, "kept"),
    });
  };
  return (
    <Section title="More shows">
      <form onSubmit={onSubmit} className="grid grid-cols-2 gap-3 px-5 py-4 sm:grid-cols-4">
        <Field label="Shows at a time" name="shows" type="number" min={1} defaultValue={1} required />
        <Field label="Bitrate, Mbit/s" name="bitrate" type="number" min={0} step="any" defaultValue={6} required />
        <Field label="Destinations" name="destinations" type="number" min={0} defaultValue={3} required />
        <Field label="Viewers" name="viewers" type="number" min={0} defaultValue={0} required />
        <Field label="Hours" name="hours" type="number" min={0} step="any" defaultValue={2} required />
        <Field label="In a month" name="month" type="number" min={0} defaultValue={4} required />
        {!knowsUplink && <Field label="Uplink, Mbit/s" name="uplink" type="number" min={0} step="any" placeholder="not known" />}
        <Field label="Money per TB sent" name="sent" type="number" min={0} step="any" defaultValue={0} />
        <Field label="Per TB kept a month" name="kept" type="number" min={0} step="any" defaultValue={0} />
        <div className="flex items-end">
          <button type="submit" className="btn btn-primary w-full" disabled={ask.isPending}>
            Reckon
          </button>
        </div>
      </form>
      {ask.error && <ErrorNote error={ask.error} />}
      {ask.data && <Answer answer={ask.data} />}
    </Section>
  );
}
