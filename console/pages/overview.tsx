import { ArrowRight, CircleAlert, CircleCheck, Info, RotateCw, TriangleAlert } from 'lucide-react';
import { useState } from 'react';
import { Link } from 'react-router';
import type { CheckRun } from '../../src/api/dns-schemas.ts';
import type { Overview } from '../../src/api/schemas.ts';
import { SUBJECTS } from '../../src/core/vocabulary.ts';
import { call, useCall, useChange, useNews } from '../api.ts';
import { Answer, PageHead, Panel, ProblemNote } from '../parts/blocks.tsx';
import { OutcomeChart } from '../parts/charts.tsx';
import { Mark, Meter } from '../parts/marks.tsx';
import { ago, count, subjectName } from '../parts/words.ts';

const HARM = {
  high: { icon: CircleAlert, colour: 'text-error', word: 'High' },
  medium: { icon: TriangleAlert, colour: 'text-warning', word: 'Medium' },
  low: { icon: Info, colour: 'text-info', word: 'Low' },
} as const;

/** Where the thing is mended. */
function placeOf(item: Overview['attention'][number]): string {
  if (item.kind === 'queue') return '/queue';
  if (item.kind === 'lockout') return '/access';
  if (item.kind === 'certificate') return '/certificates';
  if (item.kind === 'update') return '/upkeep?tab=updates';
  if (item.kind === 'backup') return '/upkeep';
  if (item.kind === 'move') return `/domains/${item.domain}?tab=move`;
  if (item.kind === 'transfer') return '/upkeep?tab=mail';
  if (item.kind === 'limit' && item.domain === null) return '/outlets';
  if (item.domain === null) return item.kind === 'finding' ? '/host' : '/domains';
  return `/domains/${item.domain}?tab=${item.kind === 'finding' ? 'records' : 'sending'}`;
}

export function OverviewPage() {
  const query = useCall<Overview>('/overview', { everyMs: 5000 });
  const [run, setRun] = useState<{ done: number; total: number } | null>(null);
  const check = useChange<CheckRun>(
    () => call('POST', '/checks'),
    ({ done, total }) => setRun({ done, total }),
  );
  useNews('check-run', (news) => setRun({ done: Number(news['done']), total: Number(news['total']) }));
  const busy = check.isPending || (run !== null && run.done < run.total);
  const { checkedAt, oldestCheckAt } = query.data ?? {};
  return (
    <>
      <PageHead title="Overview">
        <span className="soft text-sm" role="status">
          {busy
            ? `Checking, ${run?.done ?? 0} of ${run?.total ?? '…'}`
            : checkedAt
              ? `Records checked ${ago(checkedAt)}${oldestCheckAt && checkedAt - oldestCheckAt > 60_000 ? `, the oldest ${ago(oldestCheckAt)}` : ''}`
              : ''}
        </span>
        <button type="button" className="btn btn-sm" onClick={() => check.mutate()} disabled={busy}>
          <RotateCw size={14} className={busy ? 'animate-spin' : ''} aria-hidden="true" /> Check all domains
        </button>
      </PageHead>
      {check.error ? <ProblemNote problem={check.error} /> : null}
      <Answer query={query} rows={8}>
        {(data) => <Whole data={data} />}
      </Answer>
    </>
  );
}

function Whole({ data }: { data: Overview }) {
  return (
    <div className="grid gap-4 lg:grid-cols-3">
      <div className="grid grid-cols-2 gap-4 sm:grid-cols-4 lg:col-span-3">
        <Figure name="Domains" value={data.counts.domains} to="/domains" />
        <Figure name="Mailboxes" value={data.counts.mailboxes} to="/domains?sort=mailboxes" />
        <Figure name="Sends in 24 hours" value={data.sends} to="/traffic" />
        <Figure
          name="In the queue"
          value={data.counts.queued}
          to="/queue"
          note={[data.counts.delayed > 0 ? `${data.counts.delayed} delayed` : '', data.counts.held > 0 ? `${data.counts.held} held` : '']
            .filter(Boolean)
            .join(', ')}
        />
      </div>
      <div className="space-y-4 lg:col-span-2">
        <Panel title="Needs attention">
          {data.attention.length === 0 ? (
            <p className="flex items-center gap-2 py-6 text-success">
              <CircleCheck size={20} aria-hidden="true" /> Nothing needs attention.
            </p>
          ) : (
            <ul className="-mx-2 divide-y divide-base-300">
              {data.attention.map((item) => {
                const { icon: Icon, colour, word } = HARM[item.harm];
                return (
                  <li key={`${item.kind} ${item.domain} ${item.headline}`}>
                    <Link to={placeOf(item)} className="group flex items-start gap-3 rounded-field px-2 py-2.5 hover:bg-base-200">
                      <span className={`mt-0.5 inline-flex w-20 shrink-0 items-center gap-1.5 text-sm ${colour}`}>
                        <Icon size={16} aria-hidden="true" />
                        {word}
                      </span>
                      <span className="min-w-0 flex-1">
                        <span className="block font-medium">
                          {item.domain ?? (item.kind === 'finding' ? 'The host' : item.kind === 'limit' ? 'Outlets' : 'All domains')}
                        </span>
                        <span className="soft block text-sm [overflow-wrap:anywhere]">
                          {item.headline}
                          {item.also > 0 ? ` And ${item.also} more.` : ''}
                        </span>
                      </span>
                      <ArrowRight
                        size={16}
                        className="soft mt-1 shrink-0 opacity-0 group-hover:opacity-100 group-focus-visible:opacity-100"
                        aria-hidden="true"
                      />
                    </Link>
                  </li>
                );
              })}
            </ul>
          )}
        </Panel>
        <Panel title="Sends, last 24 hours">
          <OutcomeChart outcomes={data.outcomes} hours={24} label="Sends by outcome" />
        </Panel>
      </div>
      <div className="space-y-4">
        <Panel title="Published records">
          <table className="w-full text-sm">
            <tbody>
              {SUBJECTS.map((subject) => (
                <tr key={subject} className="border-base-300 border-b last:border-0">
                  <th scope="row" className="whitespace-nowrap py-2 text-left align-top font-medium">
                    {subjectName(subject)}
                  </th>
                  <td className="py-2">
                    <span className="flex flex-wrap justify-end gap-x-3 gap-y-1">
                      {Object.entries(data.verdicts[subject]).map(([verdict, number]) => (
                        <span key={verdict} className="inline-flex items-center gap-1">
                          {number} <Mark verdict={verdict as 'good'} />
                        </span>
                      ))}
                      {Object.keys(data.verdicts[subject]).length === 0 ? <span className="soft">not checked</span> : null}
                    </span>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Panel>
        <Panel title="Busiest domains">
          {data.busiest.length === 0 ? (
            <p className="soft py-4 text-sm">Nothing was sent in the last 24 hours.</p>
          ) : (
            <ul className="space-y-3">
              {data.busiest.slice(0, 5).map((one) => (
                <li key={one.domain}>
                  <Link to={`/domains/${one.domain}?tab=sending`} className="link link-hover mb-0.5 block text-sm">
                    {one.domain}
                  </Link>
                  <Meter wide used={one.sends} limit={one.limit} label={`Sends of ${one.domain} in 24 hours`} />
                </li>
              ))}
            </ul>
          )}
        </Panel>
      </div>
      <p className="soft text-xs lg:col-span-3">
        {data.host} · Tenedor {data.version} · up since {ago(data.startedAt)} · {count(data.counts.domains, 'domain')}
      </p>
    </div>
  );
}

function Figure({ name, value, to, note = '' }: { name: string; value: number; to: string; note?: string }) {
  return (
    <Link to={to} className="panel block px-4 py-3 hover:border-primary">
      <span className="soft block text-sm">{name}</span>
      <span className="font-semibold text-2xl">{value.toLocaleString('en')}</span>
      {note ? <span className="ml-2 text-sm text-warning">{note}</span> : null}
    </Link>
  );
}
