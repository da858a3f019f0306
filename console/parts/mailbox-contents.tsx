import { useState } from 'react';
import type { MailboxContents as Contents, Mailbox } from '../../src/api/mailbox-schemas.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { AppPasswords } from './app-passwords.tsx';
import { Answer, ProblemNote } from './blocks.tsx';
import { Members } from './members.tsx';
import { ago, size } from './words.ts';

/** The folders of a mailbox, how long messages stay in them, and the mail programs that have it open. Never what anybody wrote. */
export function MailboxContents({ mailbox, onClose }: { mailbox: Mailbox; onClose: () => void }) {
  const query = useCall<Contents>(`/mailboxes/${part(mailbox.address)}/contents`, { everyMs: 5000 });
  return (
    <Answer query={query}>
      {({ folders, sessions }) => (
        <div className="space-y-5">
          <p className="soft text-sm">
            {size(mailbox.usedBytes)} of {size(mailbox.quotaBytes)} are used.
          </p>
          <div className="overflow-x-auto">
            <table className="table table-sm [&_td]:px-2 [&_th]:px-2" aria-label="Folders">
              <thead>
                <tr>
                  <th>Folder</th>
                  <th className="text-right">Messages</th>
                  <th className="text-right">Stored</th>
                  <th>Stay for</th>
                </tr>
              </thead>
              <tbody>
                {folders.map((one) => (
                  <tr key={one.name}>
                    <td className="min-w-24 font-medium [overflow-wrap:anywhere]">{one.name === 'INBOX' ? 'Inbox' : one.name}</td>
                    <td className="text-right">
                      {one.messages.toLocaleString('en')}
                      {one.unseen > 0 ? <span className="soft block text-xs">{one.unseen.toLocaleString('en')} unread</span> : null}
                    </td>
                    <td className="whitespace-nowrap text-right">{size(one.bytes)}</td>
                    <td>
                      <Retention address={mailbox.address} folder={one.name} days={one.keepDays} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          <section aria-label="Signed in now">
            <h3 className="mb-1 font-medium text-sm">Signed in now</h3>
            {sessions.length === 0 ? <p className="soft text-sm">No client has this mailbox open.</p> : null}
            <ul className="space-y-1 text-sm">
              {sessions.map((one) => (
                <li key={`${one.client} ${one.since} ${one.program}`}>
                  <span className="font-medium">{one.program ?? 'Unidentified client'}</span>{' '}
                  <span className="soft">
                    by {one.service} from {one.client}, since {ago(one.since)}
                  </span>
                </li>
              ))}
            </ul>
          </section>
          <Members mailbox={mailbox} />
          <AppPasswords mailbox={mailbox} />
          <div className="text-right">
            <button type="button" className="btn btn-primary" onClick={onClose}>
              Done
            </button>
          </div>
        </div>
      )}
    </Answer>
  );
}

/** For how many days messages stay in one folder; saved when it is left. */
function Retention({ address, folder, days }: { address: string; folder: string; days: number | null }) {
  const [typed, setTyped] = useState<string | null>(null);
  const save = useChange<Contents, number | null>(
    (keepDays) => call('PUT', `/mailboxes/${part(address)}/retention`, { folder, keepDays }),
    () => setTyped(null),
  );
  const shown = typed ?? (days === null ? '' : String(days));
  const leave = (): void => {
    const next = shown.trim() === '' ? null : Number(shown);
    if (next !== days) save.mutate(next);
    else setTyped(null);
  };
  return (
    <div>
      <label className="flex items-center gap-1 whitespace-nowrap">
        <input
          className="input input-xs w-14 px-1 text-right"
          inputMode="numeric"
          aria-label={`Days that messages stay in ${folder}`}
          placeholder="always"
          value={shown}
          onChange={(event) => setTyped(event.target.value)}
          onBlur={leave}
          onKeyDown={(event) => {
            if (event.key === 'Enter') leave();
          }}
        />
        <span className="soft">{shown === '' ? '' : 'days'}</span>
      </label>
      {save.error ? <ProblemNote problem={save.error} /> : null}
    </div>
  );
}
