import { Link } from 'react-router';
import type { QueueItem, QueueList } from '../../src/api/queue-schemas.ts';
import { Empty, Table } from './blocks.tsx';
import { ChooseAll, Heading } from './list-parts.tsx';
import { StateBadge } from './marks.tsx';
import { ACTS, type Act } from './queue-acts.tsx';
import { count, fullTime, shortTime } from './words.ts';

export const HELD_WORDS: Record<string, string> = {
  limit: 'waits for room under a limit',
  brake: 'held by the brake',
  pause: 'held by a pause',
  unusual: 'held for unusual sending',
  hand: 'held by hand',
};

export interface Order {
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

export function Rows({
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
        <Empty>No waiting messages match.</Empty>
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
