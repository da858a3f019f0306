import { Hand, Play, RotateCw, Trash2 } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import type { QueueDestinations, QueueItem, QueueList } from '../../src/api/mail-schemas.ts';
import { call, useCall, useChange } from '../api.ts';
import { Answer, Dialog, Empty, Field, FormEnd, PageHead, Panel, Table } from '../parts/blocks.tsx';
import { ChooseAll, Heading, Pager, PER_PAGE } from '../parts/list-parts.tsx';
import { StateBadge } from '../parts/marks.tsx';
import { ago, count, fullTime, shortTime } from '../parts/words.ts';

type Act = 'retry' | 'hold' | 'release' | 'drop';
const ACTS: Record<Act, { name: string; icon: typeof Play; says: string }> = {
  retry: { name: 'Try now', icon: RotateCw, says: 'are tried at once. What is held stays held.' },
  hold: { name: 'Hold', icon: Hand, says: 'are held until they are released.' },
  release: { name: 'Release', icon: Play, says: 'go on, as far as they were held by hand, brake or pause.' },
  drop: { name: 'Drop', icon: Trash2, says: 'are given up, and their senders are told.' },
};
export const HELD_WORDS: Record<string, string> = {
  limit: 'waits for room under a limit',
  brake: 'held by the brake',
  pause: 'held by a pause',
  unusual: 'held for unusual sending',
  hand: 'held by hand',
};

interface Order {
  sort: string;
  reverse: boolean;
}
const HEADINGS = [
  { heading: 'Accepted', sort: 'accepted' },
  { heading: 'From', sort: 'sender' },
  { heading: 'To', sort: 'recipient' },
  { heading: 'State', sort: 'attempts', down: true },
  { heading: 'Next try', sort: 'next' },
];

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
        <span className="soft text-sm">kept up to date</span>
      </PageHead>
      <Panel title="By destination" className="mb-4">
        <Answer query={destinations}>
          {({ rows }) =>
            rows.length === 0 ? (
              <Empty>The queue is empty: nothing waits.</Empty>
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
          <label key={name} className="input input-sm w-full sm:w-52">
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
                  words=" the chosen"
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
              onOrder={({ sort, reverse }) => changeAll({ sort: sort === 'next' ? '' : sort, reverse: reverse ? 'true' : '' })}
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

/** A button for each thing that can be done to many at once. */
function ActButtons({ words = '', onAct }: { words?: string; onAct: (act: Act) => void }) {
  return (Object.keys(ACTS) as Act[]).map((act) => {
    const { name, icon: Icon } = ACTS[act];
    return (
      <button key={act} type="button" className="btn btn-sm" onClick={() => onAct(act)}>
        <Icon size={14} aria-hidden="true" /> {name}
        {words} …
      </button>
    );
  });
}

function ActForm({
  act,
  selection,
  expected,
  what,
  onClose,
}: {
  act: Act;
  selection: object;
  expected: number;
  what: string;
  onClose: () => void;
}) {
  const [reason, setReason] = useState('');
  const run = useChange<object>(
    () => call('POST', '/queue/actions', { act, ...selection, expected: expected < 0 ? null : expected, reason }),
    onClose,
  );
  return (
    <form
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        run.mutate();
      }}
    >
      <p className="mb-3 text-sm">
        {what} {ACTS[act].says}
      </p>
      <Field label="Why" hint="Optional; the journal keeps it.">
        <input className="input w-full" value={reason} onChange={(event) => setReason(event.target.value)} />
      </Field>
      <FormEnd action={ACTS[act].name} busy={run.isPending} problem={run.error} onCancel={onClose} danger={act === 'drop'} />
    </form>
  );
}

function Rows({
  view,
  chosen,
  onChoose,
  onAct,
  order,
  onOrder,
}: {
  view: QueueList;
  chosen: string[];
  onChoose: (ids: string[]) => void;
  onAct: (act: Act, row: QueueItem) => void;
  order: Order;
  onOrder: (order: Order) => void;
}) {
  const shown = [...new Set(view.rows.map((row) => row.journeyId))];
  const isAll = shown.every((id) => chosen.includes(id));
  if (view.rows.length === 0)
    return (
      <div className="panel">
        <Empty>No waiting message matches.</Empty>
      </div>
    );
  return (
    <div className="panel overflow-x-auto">
      <Table>
        <thead>
          <tr>
            <th scope="col">
              <ChooseAll searchFor="messages" isAll={isAll} onChange={(all) => onChoose(all ? shown : [])} />
            </th>
            {HEADINGS.map((column) => (
              <Heading key={column.heading} column={column} asked={order} onChange={onOrder} />
            ))}
            <th scope="col">
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {view.rows.map((row) => (
            <tr key={row.id}>
              <td>
                <input
                  type="checkbox"
                  className="checkbox checkbox-sm"
                  aria-label={`Choose ${row.journeyId} to ${row.address}`}
                  checked={chosen.includes(row.journeyId)}
                  onChange={() =>
                    onChoose(chosen.includes(row.journeyId) ? chosen.filter((id) => id !== row.journeyId) : [...chosen, row.journeyId])
                  }
                />
              </td>
              <td className="whitespace-nowrap">
                <Link
                  className="link link-hover"
                  to={`/traffic/${row.journeyId}`}
                  title={fullTime(row.acceptedAt)}
                  aria-label={`${shortTime(row.acceptedAt)}: journey ${row.journeyId}`}
                >
                  {shortTime(row.acceptedAt)}
                </Link>
              </td>
              <td className="max-w-48 truncate" title={row.sender ?? ''}>
                {row.sender ?? <span className="soft">(report)</span>}
              </td>
              <td className="max-w-72">
                <span className="block truncate" title={row.address}>
                  {row.address}
                </span>
                {row.reply ? (
                  <span className="soft block truncate text-xs" title={row.reply}>
                    {row.reply}
                  </span>
                ) : null}
              </td>
              <td className="whitespace-nowrap">
                <StateBadge state={row.state} />
                {row.attempts > 0 ? <span className="soft block text-xs">after {count(row.attempts, 'attempt')}</span> : null}
              </td>
              <td className="whitespace-nowrap">
                {row.held ? (
                  <span className="text-warning">{HELD_WORDS[row.held]}</span>
                ) : row.nextAttemptAt === null ? (
                  '–'
                ) : (
                  shortTime(row.nextAttemptAt)
                )}
              </td>
              <td className="whitespace-nowrap text-right">
                {(row.held === null
                  ? (['retry', 'hold', 'drop'] as const)
                  : row.held === 'limit'
                    ? (['drop'] as const)
                    : (['release', 'drop'] as const)
                ).map((act) => {
                  const { name, icon: Icon } = ACTS[act];
                  return (
                    <button
                      key={act}
                      type="button"
                      className="btn btn-ghost btn-xs btn-square"
                      aria-label={`${name}: ${row.journeyId} to ${row.address}`}
                      title={`${name} (all that waits of this message)`}
                      onClick={() => onAct(act, row)}
                    >
                      <Icon size={14} aria-hidden="true" />
                    </button>
                  );
                })}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}
