import { UserPlus } from "lucide-react";
import { type FormEvent, useState } from "react";
import { useAddPerson, useChangePerson, useInvitePerson, usePeople, useRemovePerson } from "../../api/queries";
import type { Invitation, Person } from "../../api/types";
import { CopyField } from "../../components/CopyField";
import { Dialog } from "../../components/Dialog";
import { Field, fieldText } from "../../components/Field";
import { FormActions } from "../../components/FormActions";
import { ErrorNote, LoadingNote } from "../../components/Notes";
import { moment } from "../../lib/format";
import { ROLES, rolesText } from "../../lib/roles";
import { Section } from "../channel/Section";
import { RolesFields, rolesIn } from "./RolesFields";
import { ROOT } from "../../api/place";

/** The one-time link; it is shown here and nowhere else. */
function InvitationLink({ invitation, onClose }: { invitation: Invitation; onClose: () => void }) {
  return (
    <Dialog title={`Invitation for ${invitation.name}`} onClose={onClose}>
      <div className="space-y-4">
        <p className="text-sm text-base-content/75">
          Give {invitation.name} this link. It opens once, until {moment(invitation.ends_at)}, and lets them choose a password. It is not shown again.
        </p>
        <CopyField label="One-time link" value={`${window.location.origin}${ROOT}/invitation#${invitation.code}`} />
        <button type="button" className="btn btn-primary w-full" onClick={onClose}>
          Done
        </button>
      </div>
    </Dialog>
  );
}

function AddPerson({ onDone, onClose }: { onDone: (invitation: Invitation) => void; onClose: () => void }) {
  const add = useAddPerson();
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    add.mutate({ name: fieldText(form, "name"), ...rolesIn(form) }, { onSuccess: onDone });
  };
  return (
    <Dialog title="Let somebody in" onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <Field label="User name" name="name" required autoFocus />
        <RolesFields roles={{ role: "observer", channels: [] }} />
        {add.error && <ErrorNote error={add.error} />}
        <FormActions label="Make the invitation" isBusy={add.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}

function ChangeRoles({ person, onClose }: { person: Person; onClose: () => void }) {
  const change = useChangePerson();
  const onSubmit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    change.mutate({ name: person.name, ...rolesIn(event.currentTarget) }, { onSuccess: onClose });
  };
  return (
    <Dialog title={`Roles of ${person.name}`} onClose={onClose}>
      <form className="space-y-4" onSubmit={onSubmit}>
        <RolesFields roles={person} />
        <p className="text-sm text-base-content/75">They hold at once, for everything that is signed in.</p>
        {change.error && <ErrorNote error={change.error} />}
        <FormActions label="Change the roles" isBusy={change.isPending} onCancel={onClose} />
      </form>
    </Dialog>
  );
}

function seen(person: Person): string {
  if (person.last_seen_at) return `here last ${moment(person.last_seen_at)}`;
  if (person.invited_until) return `invited until ${moment(person.invited_until)}`;
  return person.has_password ? "not seen yet" : "the invitation has ended";
}

function Row({ person, onInvited }: { person: Person; onInvited: (invitation: Invitation) => void }) {
  const [isChanging, setChanging] = useState(false);
  const remove = useRemovePerson();
  const invite = useInvitePerson();
  const error = remove.error ?? invite.error;
  const onInvite = () => {
    const drops_second_factor = person.has_second_factor && window.confirm(`Has ${person.name} lost the second factor, too? Then it is taken away once the link is used.`);
    invite.mutate({ name: person.name, drops_second_factor }, { onSuccess: onInvited });
  };
  return (
    <li className="px-4 py-3 sm:px-5">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <div>
          <p className="font-medium">
            {person.name} {person.is_you && <span className="text-sm font-normal text-base-content/65">(you)</span>}
          </p>
          <p className="text-sm">{rolesText(person) || "no role"}</p>
          <p className="text-sm text-base-content/70">
            {seen(person)}
            {person.has_second_factor && " · with a second factor"}
          </p>
        </div>
        <div className="flex flex-wrap items-center gap-2">
          <button type="button" className="btn btn-sm" aria-label={`Roles of ${person.name}`} onClick={() => setChanging(true)}>
            Roles
          </button>
          <button type="button" className="btn btn-sm" aria-label={`Invite ${person.name} again`} disabled={invite.isPending} onClick={onInvite}>
            New link
          </button>
          {!person.is_you && (
            <button
              type="button"
              className="btn btn-sm btn-outline btn-error"
              aria-label={`Remove ${person.name}`}
              disabled={remove.isPending}
              onClick={() => window.confirm(`Remove ${person.name}? All that is signed in ends.`) && remove.mutate(person.name)}
            >
              Remove
            </button>
          )}
        </div>
      </div>
      {isChanging && <ChangeRoles person={person} onClose={() => setChanging(false)} />}
      {error && (
        <div className="mt-2">
          <ErrorNote error={error} />
        </div>
      )}
    </li>
  );
}

/** Who may sign in, and what they may do. */
export function PeoplePage() {
  const people = usePeople();
  const [isAdding, setAdding] = useState(false);
  const [invitation, setInvitation] = useState<Invitation>();
  const onInvited = (made: Invitation) => {
    setAdding(false);
    setInvitation(made);
  };
  return (
    <>
      <h1 className="mb-5 text-2xl font-semibold tracking-tight">People</h1>
      <div className="space-y-5">
        <Section
          title="The crew"
          action={
            <button type="button" className="btn btn-sm" onClick={() => setAdding(true)}>
              <UserPlus aria-hidden className="size-4" /> Let somebody in
            </button>
          }
        >
          {people.isPending && <LoadingNote />}
          {people.error && <ErrorNote error={people.error} />}
          <ul className="divide-y divide-base-300" aria-label="People">
            {people.data?.map((person) => (
              <Row key={person.name} person={person} onInvited={onInvited} />
            ))}
          </ul>
        </Section>
        <Section title="Roles">
          <dl className="divide-y divide-base-300 text-sm">
            {ROLES.map(([role, name, what], number) => (
              <div key={role} className="flex gap-4 px-4 py-2.5 sm:px-5">
                <dt className="w-28 shrink-0 font-medium">{name}</dt>
                <dd className="text-base-content/75">
                  {what}
                  {number > 0 && ", and all above"}
                </dd>
              </div>
            ))}
          </dl>
        </Section>
      </div>
      {isAdding && <AddPerson onDone={onInvited} onClose={() => setAdding(false)} />}
      {invitation && <InvitationLink invitation={invitation} onClose={() => setInvitation(undefined)} />}
    </>
  );
}
