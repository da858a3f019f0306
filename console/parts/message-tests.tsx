import { MailPlus, RotateCw, Trash2 } from 'lucide-react';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import type { MessageFinding, Trial, TrialHead } from '../../src/api/trial-schemas.ts';
import { MESSAGE_SUBJECT_WORDS, type MessageSubject } from '../../src/core/vocabulary.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { Answer, DataTable, Empty, IconButton, Panel, ProblemNote } from './blocks.tsx';
import { CopyButton } from './copy.tsx';
import { Dialog, Form, FormEnd } from './forms.tsx';
import { Listing } from './listing.tsx';
import { Mark } from './marks.tsx';
import { count, fullTime, shortTime } from './words.ts';

const STATES = { waiting: 'waits for its message', arrived: 'being scored', scored: '', expired: 'nothing came' } as const;
const subjectName = (subject: MessageSubject): string => MESSAGE_SUBJECT_WORDS[subject].replace(/^./, (letter) => letter.toUpperCase());
const titleOf = (one: TrialHead): string =>
  one.domain !== null ? `Sample of ${one.domain}` : one.arrivedAt === null ? `To ${one.address}` : one.subject || 'No subject';

/** Addresses that take one message, and what each is worth to a strict receiver. */
export function MessageTests() {
  const [params, setParams] = useSearchParams();
  const shown = params.get('message');
  const open = (id: number): void => setParams({ tab: 'messages', message: String(id) });
  const ask = useChange<Trial>(
    () => call('POST', '/rehearsals/messages'),
    ({ id }) => open(id),
  );
  const [removing, setRemoving] = useState<TrialHead | null>(null);
  return (
    <>
      <Panel title="Send a message and see its score">
        <p className="soft mb-3 text-sm">
          You get an address that accepts one message within a day. Send to it from any client or provider. The message is scored as by a
          strict receiver; each finding shows its cost and the fix.
        </p>
        <button type="button" className="btn btn-primary" disabled={ask.isPending} onClick={() => ask.mutate()}>
          <MailPlus size={14} aria-hidden="true" /> Get an address
        </button>
        {ask.error ? <ProblemNote problem={ask.error} /> : null}
      </Panel>
      {shown === null ? null : <Shown key={shown} number={shown} />}
      <div className="mt-4">
        <Panel title="Messages">
          <Listing<TrialHead>
            name="messages"
            path="/rehearsals/messages"
            everyMs={10_000}
            searchFor="messages"
            keyOf={(one) => one.id}
            nameOf={(one) => `message ${one.id}`}
            columns={[
              {
                heading: 'When',
                sort: 'at',
                down: true,
                className: 'whitespace-nowrap',
                cell: (one) => fullTime(one.arrivedAt ?? one.madeAt),
              },
              {
                heading: 'Message',
                cell: (one) => (
                  <button type="button" className="link link-hover text-left" onClick={() => open(one.id)}>
                    {titleOf(one)}
                  </button>
                ),
              },
              { heading: 'From', sort: 'sender', className: '[overflow-wrap:anywhere]', cell: (one) => one.sender ?? '' },
              {
                heading: 'Score',
                sort: 'points',
                className: 'whitespace-nowrap',
                cell: (one) =>
                  one.points === null || one.outOf === null ? (
                    <span className="soft">{STATES[one.state]}</span>
                  ) : (
                    <Worth points={one.points} outOf={one.outOf} />
                  ),
              },
            ]}
            actions={(one) => (
              <IconButton icon={Trash2} label={`Remove message ${one.id}`} title="Remove it" onClick={() => setRemoving(one)} />
            )}
            empty={<Empty>No messages have been scored yet.</Empty>}
          />
        </Panel>
      </div>
      <RemoveMessage
        one={removing}
        onClose={() => setRemoving(null)}
        onRemoved={() => (shown === String(removing?.id) ? setParams({ tab: 'messages' }) : undefined)}
      />
    </>
  );
}

/** Points as a ring, and of how many. */
function Worth({ points, outOf, large = false }: { points: number; outOf: number; large?: boolean }) {
  const share = outOf === 0 ? 0 : (100 * points) / outOf;
  const colour = share >= 90 ? 'text-success' : share >= 60 ? 'text-warning' : 'text-error';
  const style = { '--value': share, '--size': large ? '5rem' : '2.1rem', '--thickness': large ? '7px' : '3px' } as React.CSSProperties;
  return (
    <span className="inline-flex items-center gap-2">
      <span className={`radial-progress ${colour}`} style={style} role="img" aria-label={`worth ${points} of ${outOf}`}>
        <span className={large ? 'font-semibold text-xl' : 'text-xs'}>{points}</span>
      </span>
      {outOf === 100 ? null : <span className="soft text-xs">of {outOf}</span>}
    </span>
  );
}

function Shown({ number }: { number: string }) {
  const path = `/rehearsals/messages/${part(number)}`;
  const [isOver, setOver] = useState(false);
  // Until it has come somebody is looking on.
  const query = useCall<Trial>(path, isOver ? {} : { everyMs: 1500 });
  if (query.data && !isOver && (query.data.state === 'scored' || query.data.state === 'expired')) setOver(true);
  const again = useChange<Trial>(() => call('POST', `${path}/again`));
  return (
    <div className="mt-4">
      <Answer query={query}>
        {(one) => (
          <Panel
            title={titleOf(one)}
            aside={
              one.state === 'scored' && one.domain === null ? (
                <button type="button" className="btn btn-sm" disabled={again.isPending} onClick={() => again.mutate()}>
                  <RotateCw size={14} aria-hidden="true" /> Score again
                </button>
              ) : undefined
            }
          >
            {again.error ? <ProblemNote problem={again.error} /> : null}
            {one.state === 'waiting' ? <Waiting one={one} /> : null}
            {one.state === 'arrived' ? <p role="status">It has arrived and is being scored …</p> : null}
            {one.state === 'expired' ? <p>No message arrived at {one.address} in time.</p> : null}
            {one.state === 'scored' ? <Score one={one} /> : null}
          </Panel>
        )}
      </Answer>
    </div>
  );
}

const Waiting = ({ one }: { one: Trial }) => (
  <div className="flex flex-wrap items-center gap-3">
    <code className="record-text rounded-box bg-base-200 px-3 py-2 text-lg">{one.address}</code>
    <CopyButton text={one.address ?? ''} what="the address" />
    <p role="status" className="soft flex items-center gap-2 text-sm">
      <span className="loading loading-dots loading-sm" aria-hidden="true" /> Waits for a message, until {shortTime(one.expiresAt)}.
    </p>
  </div>
);

function Score({ one }: { one: Trial }) {
  const { points, outOf, pointsBefore, outOfBefore } = one;
  const costly = one.findings.filter((finding) => finding.verdict !== 'good');
  const good = one.findings.filter((finding) => finding.verdict === 'good');
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-6">
        {pointsBefore === null || outOfBefore === null ? null : (
          <div className="flex flex-col items-center gap-1">
            <Worth points={pointsBefore} outOf={outOfBefore} large />
            <span className="soft text-xs">{shortTime(one.beforeAt ?? 0)}</span>
          </div>
        )}
        <div className="flex flex-col items-center gap-1">
          <Worth points={points ?? 0} outOf={outOf ?? 0} large />
          <span className="soft text-xs">{pointsBefore === null ? 'of 100' : `now, ${shortTime(one.scoredAt ?? 0)}`}</span>
        </div>
        <p role="status" className="text-sm">
          {costly.length === 0 ? 'No problems found.' : `${count(costly.length, 'problem')} found.`}
          {outOf === 100 ? '' : ` ${100 - (outOf ?? 0)} of 100 points could not be judged.`}
          <span className="soft block">
            From {one.sender === '' ? 'none (a report)' : one.sender}, {fullTime(one.arrivedAt ?? 0)}.{' '}
            {one.journeyId === null ? null : (
              <Link className="link" to={`/traffic/${part(one.journeyId)}`}>
                Its journey
              </Link>
            )}
          </span>
        </p>
      </div>
      {one.beforeAt === null ? null : <Changes one={one} />}
      {[...costly, ...good].map((finding) => (
        <FindingRow key={finding.code} one={finding} />
      ))}
    </>
  );
}

/** What each subject costs, before and now, where that is different. */
function Changes({ one }: { one: Trial }) {
  const changed = one.subjects.filter((subject) => subject.costs !== subject.costsBefore);
  if (changed.length === 0) return <p className="soft mb-4 text-sm">No differences from the last score.</p>;
  return (
    <div className="mb-4 max-w-xl">
      <DataTable headings={['Subject', 'Cost before', 'Costs now', 'Fixed since then']}>
        {changed.map(({ subject, costs, costsBefore }) => (
          <tr key={subject}>
            <td className="font-medium">{subjectName(subject)}</td>
            <td>{costsBefore}</td>
            <td className={costs < (costsBefore ?? 0) ? 'text-success' : 'text-error'}>{costs}</td>
            <td className="soft">
              {one.mended
                .filter((finding) => finding.subject === subject)
                .map((finding) => finding.headline)
                .join(' ')}
            </td>
          </tr>
        ))}
      </DataTable>
    </div>
  );
}

function FindingRow({ one }: { one: MessageFinding }) {
  return (
    <details
      open={one.costs > 0}
      className="group border-base-300 border-t first:border-0"
      aria-label={`${subjectName(one.subject)}: ${one.verdict}`}
    >
      <summary className="flex cursor-pointer flex-wrap items-center gap-x-3 gap-y-1 py-2.5">
        <span className="w-20">
          <Mark verdict={one.verdict} />
        </span>
        <span className="w-28 whitespace-nowrap font-medium">{subjectName(one.subject)}</span>
        <span className="min-w-0 flex-1 basis-60 [overflow-wrap:anywhere]">{one.headline}</span>
        {one.costs > 0 ? <span className="badge badge-soft badge-error badge-sm">−{one.costs}</span> : null}
      </summary>
      <div className="pb-4 text-sm sm:pl-[5.75rem]">
        {one.seen.map((line) => (
          <p key={line} className="record-text rounded-box bg-base-200 px-2 py-1 text-xs [overflow-wrap:anywhere]">
            {line}
          </p>
        ))}
        <p className="soft mt-2">{one.why}</p>
        {one.remedy === '' ? null : (
          <p className="mt-1">
            <span className="font-medium">What to do: </span>
            {one.remedy}
          </p>
        )}
      </div>
    </details>
  );
}

function RemoveMessage({ one, onClose, onRemoved }: { one: TrialHead | null; onClose: () => void; onRemoved: () => void }) {
  const remove = useChange<object, number>(
    (id) => call('DELETE', `/rehearsals/messages/${id}`),
    () => {
      onClose();
      onRemoved();
    },
  );
  return (
    <Dialog title={`Remove ${one ? titleOf(one) : ''}`} open={one !== null} onClose={onClose}>
      {one ? (
        <Form
          problem={remove.error}
          onSubmit={(event) => {
            event.preventDefault();
            remove.mutate(one.id);
          }}
        >
          <p className="text-sm">Its text and scores are removed. Journal entries stay.</p>
          <FormEnd action="Remove" busy={remove.isPending} problem={remove.error} onCancel={onClose} danger />
        </Form>
      ) : null}
    </Dialog>
  );
}
