import { Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { Mailbox, Member } from '../../src/api/mailbox-schemas.ts';
import { call, part, useAll, useChange } from '../api.ts';
import { AskFirst } from './ask-first.tsx';
import { ProblemNote } from './blocks.tsx';

const ROLES: Record<NonNullable<Member['as']>, string> = {
  reader: 'reads',
  writer: 'reads, files and removes',
  manager: 'full access, grants rights',
};

/** With whom a mailbox is shared, and as what. */
export function Members({ mailbox }: { mailbox: Mailbox }) {
  const path = `/mailboxes/${part(mailbox.address)}/members`;
  const query = useAll<Member>(path, { everyMs: 10_000 });
  const [member, setMember] = useState('');
  const [as, setAs] = useState<NonNullable<Member['as']>>('writer');
  const [maySend, setMaySend] = useState(true);
  const share = useChange<Member[]>(
    () => call('PUT', path, { member: member.includes('@') ? member : `${member}@${mailbox.domain}`, as, maySend }),
    () => setMember(''),
  );
  const end = useChange<unknown, string>((one) => call('DELETE', `${path}/${part(one)}`));
  const problem = share.error ?? end.error;
  return (
    <section aria-label="Shared with">
      <h3 className="font-medium text-sm">Shared with</h3>
      <p className="soft mb-2 text-sm">Members of the same customer open it with their own password, as folders below Shared.</p>
      {problem ? <ProblemNote problem={problem} /> : null}
      <ul className="divide-y divide-base-200">
        {(query.data ?? []).map((one) => (
          <li key={one.address} className="flex items-center justify-between gap-2 py-1 text-sm">
            <span className="min-w-0 [overflow-wrap:anywhere]">
              <span className="font-medium">{one.address}</span>
              <span className="soft block">
                {one.as ? ROLES[one.as] : `rights ${one.rights}`}
                {one.maySend ? '; sends as it' : ''}
              </span>
            </span>
            <AskFirst
              icon={Trash2}
              label={`End sharing with ${one.address}`}
              title="End sharing"
              question={`${one.address} will no longer be able to open this mailbox.`}
              action="End sharing"
              act={() => end.mutate(one.address)}
            />
          </li>
        ))}
      </ul>
      <form
        className="mt-2 flex flex-wrap items-center gap-2"
        onSubmit={(event: FormEvent) => {
          event.preventDefault();
          share.mutate();
        }}
      >
        <input
          className="input input-sm w-full min-w-0 sm:w-auto sm:grow"
          aria-label="Member"
          placeholder={`ana@${mailbox.domain}`}
          required
          value={member}
          onChange={(event) => setMember(event.target.value)}
        />
        <select
          className="select select-sm w-auto"
          aria-label="Rights"
          value={as}
          onChange={(event) => setAs(event.target.value as NonNullable<Member['as']>)}
        >
          {Object.entries(ROLES).map(([role, words]) => (
            <option key={role} value={role}>
              {words}
            </option>
          ))}
        </select>
        <label className="flex items-center gap-1 text-sm">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={maySend}
            onChange={(event) => setMaySend(event.target.checked)}
          />
          sends as it
        </label>
        <button type="submit" className="btn btn-sm" disabled={share.isPending}>
          Share
        </button>
      </form>
    </section>
  );
}
