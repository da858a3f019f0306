import { Send, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { Notices, Webhook } from '../../src/api/mail-schemas.ts';
import { call, useAll, useCall, useChange } from '../api.ts';
import { AskFirst } from '../parts/ask-first.tsx';
import { Answer, DataTable, IconButton, Panel, ProblemNote } from '../parts/blocks.tsx';
import { CopyButton } from '../parts/copy.tsx';
import { ago } from '../parts/words.ts';

const EVENTS: Record<string, string> = {
  'limit-warning': 'a limit reaches 80 or 100 %',
  'brake-set': 'a brake is set',
  'unusual-sending': 'a mailbox sends far more than usual',
  'nearly-full': 'the mailboxes of a domain are nearly full',
};

/** Of what customers are told by mail, and which programs are called. */
export function NoticesPanel() {
  const notices = useCall<Notices>('/notices');
  const hooks = useAll<Webhook>('/webhooks', { everyMs: 5000 });
  const [url, setUrl] = useState('');
  const [answer, setAnswer] = useState<Record<number, string>>({});
  const set = useChange<Notices, string[]>((mail) => call('PUT', '/notices', { mail }, notices.data?.revision));
  const add = useChange<{ webhook: Webhook; secret: string }>(
    () => call('POST', '/webhooks', { url }),
    () => setUrl(''),
  );
  const remove = useChange<object, number>((id) => call('DELETE', `/webhooks/${id}`));
  const test = useChange<{ status: number | null; reason: string; id: number }, number>(
    async (id) => ({ ...(await call<{ status: number | null; reason: string }>('POST', `/webhooks/${id}/test`)), id }),
    ({ id, status, reason }) => setAnswer({ ...answer, [id]: status === null ? `no answer (${reason})` : `${status} ${reason}` }),
  );
  return (
    <Panel title="Notifications">
      <Answer query={notices}>
        {({ mail }) => (
          <fieldset className="mb-4 text-sm">
            <legend className="mb-1 font-medium">Mail to the customer’s contact when</legend>
            {Object.entries(EVENTS).map(([event, words]) => (
              <label key={event} className="flex items-center gap-2 py-0.5">
                <input
                  type="checkbox"
                  className="checkbox checkbox-sm"
                  checked={mail.includes(event as 'brake-set')}
                  onChange={(change) => set.mutate(change.target.checked ? [...mail, event] : mail.filter((one) => one !== event))}
                />
                {words}
              </label>
            ))}
          </fieldset>
        )}
      </Answer>
      {set.error ? <ProblemNote problem={set.error} /> : null}
      <h3 className="mb-1 font-medium text-sm">Webhooks (signed HTTP requests)</h3>
      <form
        className="mb-2 flex gap-2"
        onSubmit={(event: FormEvent) => {
          event.preventDefault();
          add.mutate();
        }}
      >
        <input
          className="input input-sm min-w-0 flex-1"
          type="url"
          aria-label="Webhook address"
          placeholder="https://desk.provider.example/mail-events"
          required
          value={url}
          onChange={(event) => setUrl(event.target.value)}
        />
        <button type="submit" className="btn btn-sm" disabled={add.isPending}>
          Add
        </button>
      </form>
      {add.error ? <ProblemNote problem={add.error} /> : null}
      {add.data ? (
        <p role="status" className="mb-2 rounded-box bg-success/10 p-2 text-sm">
          Its secret, shown only once: <span className="record-text">{add.data.secret}</span>{' '}
          <CopyButton text={add.data.secret} what="secret" />
        </p>
      ) : null}
      <Answer query={hooks}>
        {(rows) =>
          rows.length === 0 ? (
            <p className="soft py-1 text-sm">No webhooks.</p>
          ) : (
            <DataTable headings={['Address', 'Last call']}>
              {rows.map((one) => (
                <tr key={one.id}>
                  <td className="[overflow-wrap:anywhere]">{one.url}</td>
                  <td>
                    {answer[one.id] ?? one.lastAnswer ?? 'never'}
                    <span className="soft block text-xs">
                      {one.lastAt === null ? '' : ago(one.lastAt)}
                      {one.waiting > 0 ? `, ${one.waiting} waiting` : ''}
                    </span>
                  </td>
                  <td className="whitespace-nowrap text-right">
                    <IconButton icon={Send} label={`Test webhook ${one.url}`} title="Test webhook" onClick={() => test.mutate(one.id)} />
                    <AskFirst
                      icon={Trash2}
                      label={`Remove webhook ${one.url}`}
                      title="Remove webhook"
                      question={`${one.url} gets no more events; events still waiting for it are dropped.`}
                      action="Remove"
                      act={() => remove.mutate(one.id)}
                    />
                  </td>
                </tr>
              ))}
            </DataTable>
          )
        }
      </Answer>
    </Panel>
  );
}
