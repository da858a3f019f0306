import { ArrowRight, Check } from 'lucide-react';
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import type { CheckReport } from '../../src/api/dns-schemas.ts';
import type { JourneyRow } from '../../src/api/journey-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { part, useCall } from '../api.ts';
import { Panel } from '../parts/blocks.tsx';
import { Mark } from '../parts/marks.tsx';
import { ago, count, day, subjectName } from '../parts/words.ts';

interface Step {
  title: string;
  /** What is to be done, when it is the next one. */
  todo: string;
  done: boolean;
  text: ReactNode;
  action: ReactNode;
}

/** The path of setting a domain up: what is done, and what is next. */
export function SetUpTab({ domain, report, onTab }: { domain: Domain; report: CheckReport | null; onTab: (tab: string) => void }) {
  const traffic = useCall<{ rows: JourneyRow[] }>(`/journeys?limit=50&domain=${part(domain.name)}`, { everyMs: 5000 });
  const sent = traffic.data?.rows.find((row) => row.kind === 'submitted' && row.outcome === 'accepted');
  const received = traffic.data?.rows.find((row) => row.kind === 'received' && row.outcome === 'accepted');
  const button = (tab: string, title: string): ReactNode => (
    <button type="button" className="btn btn-sm btn-primary" onClick={() => onTab(tab)}>
      {title} <ArrowRight size={14} aria-hidden="true" />
    </button>
  );
  const bad = report?.findings.filter((one) => one.verdict !== 'good') ?? [];
  const recordsText =
    report === null ? (
      'The published records have not been checked yet.'
    ) : bad.length === 0 ? (
      `All correct, checked ${ago(report.checkedAt)}.`
    ) : (
      <span className="block space-y-1">
        {bad.map((one) => (
          <span key={one.code} className="flex flex-wrap gap-x-2">
            <Mark verdict={one.verdict} />
            <span className="font-medium">{subjectName(one.subject)}</span> {one.headline}
          </span>
        ))}
      </span>
    );
  const steps: Step[] = [
    {
      title: 'Added',
      todo: '',
      done: true,
      text: `On ${day(domain.createdAt)} for ${domain.customer}, with the role ${domain.role}.`,
      action: null,
    },
    {
      title: 'Records published',
      todo: 'publish the records',
      done: report?.good ?? false,
      text: recordsText,
      action: button('records', bad.length > 0 ? 'See the records' : 'See the records'),
    },
  ];
  if (domain.role === 'home')
    steps.push(
      {
        title: 'Mailboxes',
        todo: 'add a mailbox',
        done: domain.mailboxes > 0,
        text:
          domain.mailboxes > 0
            ? `${count(domain.mailboxes, 'mailbox', 'mailboxes')} of ${domain.mostMailboxes}. Mail to postmaster and abuse is always delivered.`
            : 'The domain cannot receive mail yet.',
        action: button('mailboxes', 'Add a mailbox'),
      },
      {
        title: 'First message sent',
        todo: 'send a first message',
        done: sent !== undefined,
        text: sent ? (
          <>
            Last {ago(sent.at)}:{' '}
            <Link className="link" to={`/traffic/${sent.id}`}>
              {sent.subject || sent.id}
            </Link>
          </>
        ) : (
          'Send one to a mailbox elsewhere, then open its journey.'
        ),
        action: button('sending', 'See sent messages'),
      },
      {
        title: 'First message received',
        todo: 'receive a first message',
        done: received !== undefined,
        text: received ? (
          <>
            Last {ago(received.at)} from {received.sender}:{' '}
            <Link className="link" to={`/traffic/${received.id}`}>
              {received.subject || received.id}
            </Link>
          </>
        ) : (
          'Send one from elsewhere. Refused messages are listed too.'
        ),
        action: (
          <Link className="btn btn-sm" to={`/traffic?domain=${domain.name}`}>
            Traffic of this domain <ArrowRight size={14} aria-hidden="true" />
          </Link>
        ),
      },
    );
  const next = steps.findIndex((one) => !one.done);
  return (
    <Panel
      title={next < 0 ? 'Everything is set up' : `Next: ${steps[next]?.todo}`}
      aside={<span className="soft text-sm">{`${steps.filter((one) => one.done).length} of ${steps.length} done`}</span>}
    >
      <ol>
        {steps.map((one, at) => (
          <li key={one.title} className="flex gap-4 border-base-300 border-t py-4 first:border-0">
            <span
              className={`grid size-7 shrink-0 place-items-center rounded-full text-sm ${one.done ? 'bg-success text-success-content' : at === next ? 'bg-primary text-primary-content' : 'bg-base-300'}`}
              aria-hidden="true"
            >
              {one.done ? <Check size={16} /> : at + 1}
            </span>
            <div className="min-w-0 flex-1">
              <h3 className="font-medium">
                {one.title} <span className="soft font-normal text-sm">{one.done ? 'done' : at === next ? 'next' : 'open'}</span>
              </h3>
              <div className="soft text-sm">{one.text}</div>
            </div>
            <div className="shrink-0">{at === next || (at > 0 && !one.done) ? one.action : null}</div>
          </li>
        ))}
      </ol>
    </Panel>
  );
}
