import { FileText } from "lucide-react";
import { type FormEvent, useState } from "react";
import { useChangeChannel, useChangePoster } from "../../api/queries";
import type { Channel, ChannelPage, PageLink } from "../../api/types";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote } from "../../components/Notes";
import { moment } from "../../lib/format";

/** What the page for viewers says besides the show. */
export function PageTexts({ channel }: { channel: Channel }) {
  const [isOpen, setOpen] = useState(false);
  const { page } = channel.viewing;
  const said = [
    page.description && "a description",
    page.starts_at && `starts ${moment(page.starts_at)}`,
    page.has_poster && "a poster",
    page.links.length > 0 && `${page.links.length} links`,
    page.slot && "something beside the player",
    page.is_listed && "listed",
    page.shows_recording && "the recording after the show",
  ].filter(Boolean);
  return (
    <div className="flex items-center justify-between gap-3 border-t border-base-300 px-4 py-3 sm:px-5">
      <p className="text-sm">
        <span className="font-medium">The page</span>{" "}
        <span className="text-base-content/65">{said.length > 0 ? said.join(" · ") : "says nothing but the title"}</span>
      </p>
      <button type="button" className="btn shrink-0 btn-sm" onClick={() => setOpen(true)}>
        <FileText className="size-4" /> What it says
      </button>
      {isOpen && <EditPage channel={channel.name} page={page} onClose={() => setOpen(false)} />}
    </div>
  );
}

/** One link a line: a label, and an address at its end. */
function readLinks(text: string): PageLink[] {
  const lines = text.split("\n").map((line) => line.trim());
  return lines.filter(Boolean).map((line) => {
    const at = line.lastIndexOf(" ");
    return at < 0 ? { label: line, address: line } : { label: line.slice(0, at).trim(), address: line.slice(at + 1) };
  });
}

/** A time as the field for it has it, where the engineer is. */
function localTime(time: string | null | undefined): string {
  if (!time) return "";
  const at = new Date(time);
  return new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

function EditPage({ channel, page, onClose }: { channel: string; page: ChannelPage; onClose: () => void }) {
  const change = useChangeChannel(channel);
  const poster = useChangePoster(channel);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const start = fieldText(form, "start");
    const file = new FormData(form).get("poster");
    const texts = {
      description: fieldText(form, "description"),
      tags: fieldText(form, "tags").split(",").map((tag) => tag.trim()).filter(Boolean),
      links: readLinks(fieldText(form, "links")),
      starts_at: start ? new Date(start).toISOString() : "",
      accent: fieldText(form, "accent"),
      slot: fieldText(form, "slot"),
      is_listed: fieldText(form, "listed") === "on",
      shows_recording: fieldText(form, "recording") === "on",
    };
    const send = async () => {
      await change.mutateAsync({ viewing: { page: texts } });
      if (file instanceof File && file.size > 0) await poster.mutateAsync(file);
      onClose();
    };
    // What fails is shown below.
    send().catch(() => undefined);
  };
  return (
    <Dialog title="What the page says" onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <label className="block">
          <span className="text-sm font-medium">Description</span>
          <textarea className="textarea mt-1 h-28 w-full" name="description" defaultValue={page.description} placeholder="What it is about. **Bold**, [links](https://…) and lists as in Markdown." />
        </label>
        <Field label="Next show begins" name="start" type="datetime-local" defaultValue={localTime(page.starts_at)} hint="The page counts down to it." />
        <Field label="Tags" name="tags" defaultValue={page.tags.join(", ")} placeholder="rowing, eights" />
        <label className="block">
          <span className="text-sm font-medium">Links</span>
          <textarea className="textarea mt-1 h-20 w-full" name="links" defaultValue={page.links.map(({ label, address }) => `${label} ${address}`).join("\n")} placeholder="Results https://www.wexcombe.example/results" />
          <span className="mt-1 block text-xs text-base-content/65">One a line: what people read, then the address.</span>
        </label>
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label="Colour" name="accent" defaultValue={page.accent ?? ""} placeholder="#0b5563" />
          <Field label="Beside the player" name="slot" defaultValue={page.slot ?? ""} placeholder="https://chat.wexcombe.example/room" hint="Its site must stand in the settings (house.slot_sites)." />
        </div>
        <Field label={page.has_poster ? "Another poster" : "Poster"} name="poster" type="file" accept="image/jpeg,image/png,image/webp,image/avif" className="file-input mt-1 w-full" hint="Shown before the show, and in previews of links. Up to 4 MiB." />
        {page.has_poster && (
          <button type="button" className="btn btn-sm" disabled={poster.isPending} onClick={() => poster.mutate(null)}>
            Remove the poster
          </button>
        )}
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" className="checkbox checkbox-sm" name="listed" defaultChecked={page.is_listed} /> In the list of channels that are open to everybody
        </label>
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" className="checkbox checkbox-sm" name="recording" defaultChecked={page.shows_recording} /> After the show, its recording
        </label>
        {change.error && <ErrorNote error={change.error} />}
        {poster.error && <ErrorNote error={poster.error} />}
        <FormActions label="Save" isBusy={change.isPending || poster.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}
