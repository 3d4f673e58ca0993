import type { AddCallTarget, CallFormat, CallRequest, Delivery } from "../../api/types";
import { fieldText } from "../../components/Field";
import { moment } from "../../lib/format";
import { legible } from "./systemForm";

/** In what form a target is told, as one choice. */
export const FORMATS = [
  ["event", "As events (CloudEvents 1.0, JSON)"],
  ["application/json", "As JSON of my own, for a chat"],
  ["text/plain", "As plain text of my own"],
] as const;

/** What is offered for a chat. */
export const TEMPLATE = '{"text": {{ text }}}';

export function formatWord(format: CallFormat | undefined): string {
  return format?.form === "text" ? format.content_type : "event";
}

export function templateOf(format: CallFormat | undefined): string {
  return format?.form === "text" ? format.template : TEMPLATE;
}

function formatIn(form: HTMLFormElement): CallFormat {
  const content_type = fieldText(form, "format");
  return content_type === "event" ? { form: "event" } : { form: "text", content_type, template: fieldText(form, "template") };
}

/** What a form says of who is told what. */
export function targetIn(form: HTMLFormElement): AddCallTarget {
  const data = new FormData(form);
  return {
    name: fieldText(form, "name"),
    address: fieldText(form, "address"),
    channel: fieldText(form, "channel"),
    kinds: data.getAll("kinds").map(String),
    is_on: data.has("is_on"),
    format: formatIn(form),
  };
}

/** A call as it is made. */
export function callText(request: CallRequest): string {
  const head = request.headers.map(({ name, value }) => `${name}: ${value}`).join("\n");
  return `POST ${request.address}\n${head}\n\n${legible(request.body)}`;
}

/** What is to be said of how a delivery stands. */
export function standing(one: Pick<Delivery, "state" | "tries" | "took_ms" | "status" | "next_at" | "fault">): string {
  const status = one.status ? `${one.status}, ` : "";
  if (one.state === "delivered") return `${status}${one.took_ms ?? 0} ms`;
  if (one.state === "given_up") return `after ${one.tries} tries: ${one.fault ?? ""}`;
  if (!one.tries) return "for its turn";
  return `tried ${one.tries}×, next ${one.next_at ? moment(one.next_at) : "soon"}: ${one.fault ?? ""}`;
}
