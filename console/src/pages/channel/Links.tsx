import { Plus, Trash2 } from "lucide-react";
import { type FormEvent, useState } from "react";
import { useAddViewingLink, useRemoveViewingLink, useViewingLinks } from "../../api/queries";
import type { ViewingLink } from "../../api/types";
import { CopyField } from "../../components/CopyField";
import { Dialog } from "../../components/Dialog";
import { DoneAction } from "../../components/DoneAction";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { moment } from "../../lib/format";

/** The links by which a channel can be watched. */
export function Links({ channel, isClosed }: { channel: string; isClosed: boolean }) {
  const links = useViewingLinks(channel);
  const remove = useRemoveViewingLink(channel);
  const [isAdding, setAdding] = useState(false);
  const [shown, setShown] = useState<ViewingLink>();
  const onRevoke = ({ id, label }: ViewingLink) => {
    if (window.confirm(`Revoke the link for “${label}”? Who watches by it is ended at once.`)) remove.mutate(id);
  };
  return (
    <div className="border-t border-base-300">
      <div className="flex items-center justify-between gap-3 px-4 py-3 sm:px-5">
        <h3 className="font-medium">Links</h3>
        <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
          <Plus className="size-4" /> Make link
        </button>
      </div>
      {isClosed && (links.data?.length ?? 0) > 0 && (
        <p className="px-4 pb-2 text-sm text-base-content/70 sm:px-5">While the channel is closed, links to takes alone open something.</p>
      )}
      {links.isPending && <LoadingNote />}
      {links.error && <ErrorNote error={links.error} />}
      {remove.error && <ErrorNote error={remove.error} />}
      {links.data?.length === 0 && (
        <p className="px-4 pb-4 text-sm text-base-content/70 sm:px-5">No links. Who gets one can watch without an account, until it ends or is revoked.</p>
      )}
      <ul className="divide-y divide-base-300">
        {links.data?.map((link) => (
          <li key={link.id} className="flex items-center gap-3 px-4 py-2.5 sm:px-5">
            <div className="min-w-0 flex-1">
              <p className="truncate font-medium">{link.label}</p>
              <p className="text-sm text-base-content/65">
                {Date.parse(link.ends_at) <= links.dataUpdatedAt ? "ended" : `until ${moment(link.ends_at)}`} · {link.viewer_count}
                {link.most_viewers > 0 && ` of ${link.most_viewers}`} watching
                {link.shows_rehearsals && " · rehearsals too"}
                {link.take && ` · take ${link.take.session}/${link.take.number}`}
                {link.sites.length > 0 && ` · only on ${link.sites.join(", ")}`}
              </p>
            </div>
            <button type="button" className="btn btn-ghost btn-sm" aria-label={`Addresses of link ${link.label}`} onClick={() => setShown(link)}>
              Addresses
            </button>
            <button type="button" className="btn btn-ghost btn-square btn-sm" aria-label={`Revoke link ${link.label}`} onClick={() => onRevoke(link)}>
              <Trash2 className="size-4" />
            </button>
          </li>
        ))}
      </ul>
      {isAdding && <AddLink channel={channel} onClose={() => setAdding(false)} />}
      {shown && (
        <Dialog title={`Link for ${shown.label}`} onClose={() => setShown(undefined)}>
          <LinkAddresses link={shown} onClose={() => setShown(undefined)} />
        </Dialog>
      )}
    </div>
  );
}

export function LinkAddresses({ link, onClose }: { link: ViewingLink; onClose: () => void }) {
  return (
    <div className="space-y-4">
      {link.sites.length === 0 && <CopyField label="Page for people" value={link.addresses.page} hint="Whoever has it can watch." />}
      <CopyField label="Code for a page of your own" value={embedCode(link.addresses.embed)} />
      {link.sites.length === 0 && !link.take && <CopyField label="HLS, for players" value={link.addresses.hls} />}
      <DoneAction onClose={onClose} />
    </div>
  );
}

/** What puts the player into another page. */
export function embedCode(address: string): string {
  return `<iframe src="${address}" width="640" height="410" allow="autoplay; fullscreen; picture-in-picture" title="Live"></iframe>`;
}

function AddLink({ channel, onClose }: { channel: string; onClose: () => void }) {
  const add = useAddViewingLink(channel);
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const end = fieldText(form, "end");
    add.mutate({
      label: fieldText(form, "label"),
      ends_at: end ? new Date(end).toISOString() : null,
      most_viewers: Number(fieldText(form, "most")) || 0,
      sites: fieldText(form, "sites").split(/[\s,]+/).filter(Boolean),
      shows_rehearsals: fieldText(form, "rehearsals") === "on",
    });
  };
  return (
    <Dialog title="Make a link" onClose={onClose}>
      {add.data ? (
        <LinkAddresses link={add.data} onClose={onClose} />
      ) : (
        <form className="space-y-4" onSubmit={onSubmit}>
          <Field label="For whom" name="label" placeholder="Screen in the club house" required autoFocus hint="A person or a place. Each gets a link of its own, so that one can be revoked alone." />
          <Field label="Ends" name="end" type="datetime-local" hint="30 days from now if left empty." />
          <Field label="Viewers at a time" name="most" type="number" min={0} placeholder="as many as the channel takes" />
          <Field label="Only on the pages of" name="sites" placeholder="anywhere" hint="Sites, as in https://www.wexcombe.example." />
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" className="checkbox checkbox-sm" name="rehearsals" /> Show rehearsals too
          </label>
          {add.error && <ErrorNote error={add.error} />}
          <FormActions label="Make link" isBusy={add.isPending} onCancel={onClose} />
        </form>
      )}
    </Dialog>
  );
}
