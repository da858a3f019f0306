import { useState } from 'react';
import { useSearchParams } from 'react-router';
import type { QueueDestinations, QueueList } from '../../src/api/queue-schemas.ts';
import { useCall } from '../api.ts';
import { Answer, Empty, PageHead, Panel, Table } from '../parts/blocks.tsx';
import { Dialog } from '../parts/forms.tsx';
import { Pager, PER_PAGE } from '../parts/list-parts.tsx';
import { ACTS, type Act, ActButtons, ActForm } from '../parts/queue-acts.tsx';
import { HELD_WORDS, Rows } from '../parts/queue-rows.tsx';
import { ago, count, fullTime, shortTime } from '../parts/words.ts';

/** Also for narrow windows, where there are no headings to click. */
const ORDERS = [
  ['next', 'by next try'],
  ['accepted', 'by age'],
  ['sender', 'by sender'],
  ['recipient', 'by recipient'],
  ['attempts', 'by attempts'],
  ['size', 'by size'],
] as const;

export function QueuePage() {
  const [params, setParams] = useSearchParams();
  const value = (name: string): string => params.get(name) ?? '';
  /** What is asked otherwise is shown from its beginning. */
  const changeAll = (changes: Record<string, string>): void => {
    const changed = new URLSearchParams(params);
    for (const [name, next] of Object.entries({ offset: '', ...changes }))
      if (next === '') changed.delete(name);
      else changed.set(name, next);
    setParams(changed, { replace: true });
  };
  const change = (name: string, next: string): void => changeAll({ [name]: next });
  const asked = ['domain', 'destination', 'sender', 'held', 'olderThanMinutes'].flatMap((name): [string, string][] =>
    value(name) === '' ? [] : [[name, value(name)]],
  );
  const selection = Object.fromEntries(asked.map(([name, text]) => [name, name === 'olderThanMinutes' ? Number(text) : text]));
  const destinations = useCall<QueueDestinations>('/queue/destinations', { everyMs: 4000 });
  const order = { sort: value('sort') || 'next', reverse: value('reverse') === 'true' };
  const changeOrder = ({ sort, reverse }: { sort: string; reverse: boolean }): void =>
    changeAll({ sort: sort === 'next' ? '' : sort, reverse: reverse ? 'true' : '' });
  const offset = Math.max(0, Math.trunc(Number(value('offset'))) || 0);
  const list = useCall<QueueList>(
    `/queue?${new URLSearchParams([...asked, ['sort', order.sort], ['reverse', String(order.reverse)], ['offset', String(offset)], ['limit', String(PER_PAGE)]])}`,
    { everyMs: 4000 },
  );
  const [chosen, setChosen] = useState<string[]>([]);
  const [acting, setActing] = useState<{ act: Act; selection: object; expected: number; what: string } | null>(null);
  return (
    <>
      <PageHead title="Queue">
        <span className="soft text-sm">live</span>
      </PageHead>
      <Panel title="By destination" className="mb-4">
        <Answer query={destinations}>
          {({ rows }) =>
            rows.length === 0 ? (
              <Empty>The queue is empty.</Empty>
            ) : (
              <div className="overflow-x-auto">
                <Table>
                  <thead>
                    <tr>
                      <th scope="col">Destination</th>
                      <th scope="col" className="text-right">
                        Recipients
                      </th>
                      <th scope="col" className="text-right">
                        Held
                      </th>
                      <th scope="col">Oldest</th>
                      <th scope="col">Next try</th>
                      <th scope="col">Last reply</th>
                    </tr>
                  </thead>
                  <tbody>
                    {rows.map((row) => (
                      <tr key={row.destination}>
                        <td>
                          <button
                            type="button"
                            className="link link-hover font-medium"
                            onClick={() => change('destination', row.destination)}
                          >
                            {row.destination}
                          </button>
                        </td>
                        <td className="text-right">{row.recipients}</td>
                        <td className="text-right">{row.held || '–'}</td>
                        <td className="whitespace-nowrap" title={fullTime(row.oldestAt)}>
                          {ago(row.oldestAt)}
                        </td>
                        <td className="whitespace-nowrap">{row.nextAttemptAt === null ? '–' : shortTime(row.nextAttemptAt)}</td>
                        <td className="soft max-w-96 truncate" title={row.lastReply ?? ''}>
                          {row.lastReply ?? 'nothing yet'}
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </Table>
              </div>
            )
          }
        </Answer>
      </Panel>
      <div className="mb-3 flex flex-wrap gap-2">
        {(['domain', 'destination', 'sender'] as const).map((name) => (
          <label key={name} className="input input-sm w-full sm:w-48">
            <input
              type="search"
              aria-label={{ domain: 'Domain here', destination: 'Destination', sender: 'Sender' }[name]}
              placeholder={{ domain: 'Domain here', destination: 'Destination', sender: 'Sender' }[name]}
              value={value(name)}
              onChange={(event) => change(name, event.target.value)}
            />
          </label>
        ))}
        <select
          className="select select-sm w-auto"
          aria-label="Held"
          value={value('held')}
          onChange={(event) => change('held', event.target.value)}
        >
          <option value="">held or not</option>
          <option value="none">not held</option>
          <option value="any">held</option>
          {Object.entries(HELD_WORDS).map(([held, words]) => (
            <option key={held} value={held}>
              {words}
            </option>
          ))}
        </select>
        <select
          className="select select-sm w-auto"
          aria-label="Waiting since"
          value={value('olderThanMinutes')}
          onChange={(event) => change('olderThanMinutes', event.target.value)}
        >
          <option value="">waiting however long</option>
          <option value="60">waiting over an hour</option>
          <option value="240">waiting over 4 hours</option>
          <option value="1440">waiting over a day</option>
        </select>
        <select
          className="select select-sm w-auto"
          aria-label="Order of messages"
          value={order.sort}
          onChange={(event) => changeOrder({ sort: event.target.value, reverse: false })}
        >
          {ORDERS.map(([sort, words]) => (
            <option key={sort} value={sort}>
              {words}
            </option>
          ))}
        </select>
      </div>
      <Answer query={list} rows={6}>
        {(view) => (
          <>
            {view.recipients > 0 ? (
              <div className="mb-2 flex flex-wrap items-center gap-2 text-sm">
                <span className="mr-auto">
                  {count(view.recipients, 'recipient')} of {count(view.messages, 'message')}
                </span>
                {Object.keys(selection).length > 0 ? (
                  <ActButtons
                    onAct={(act) => setActing({ act, selection, expected: view.recipients, what: count(view.recipients, 'recipient') })}
                  />
                ) : null}
              </div>
            ) : null}
            {chosen.length > 0 ? (
              <div className="mb-2 flex flex-wrap items-center gap-2 text-sm">
                <span className="mr-auto" role="status">
                  {count(chosen.length, 'message')} chosen
                </span>
                <ActButtons
                  words=" the selected"
                  onAct={(act) =>
                    setActing({ act, selection: { ids: chosen }, expected: -1, what: `What waits of ${count(chosen.length, 'message')}` })
                  }
                />
              </div>
            ) : null}
            <Rows
              view={view}
              chosen={chosen}
              onChoose={setChosen}
              onAct={(act, row) =>
                setActing({ act, selection: { ids: [row.journeyId] }, expected: -1, what: `What waits of ${row.journeyId}` })
              }
              order={order}
              onOrder={changeOrder}
            />
            <Pager total={view.recipients} offset={offset} onChange={(next) => change('offset', next === 0 ? '' : String(next))}>
              {null}
            </Pager>
          </>
        )}
      </Answer>
      <Dialog title={acting ? `${ACTS[acting.act].name}?` : ''} open={acting !== null} onClose={() => setActing(null)}>
        {acting ? (
          <ActForm
            {...acting}
            onClose={() => {
              setActing(null);
              setChosen([]);
            }}
          />
        ) : null}
      </Dialog>
    </>
  );
}
