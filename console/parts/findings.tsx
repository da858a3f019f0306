import { useEffect, useState } from 'react';
import type { Finding, FindingChange, SheetRecord } from '../../src/api/dns-schemas.ts';
import { Empty } from './blocks.tsx';
import { CopyButton } from './copy.tsx';
import { difference } from './difference.ts';
import { Mark } from './marks.tsx';
import { fullTime, shortTime, subjectName } from './words.ts';

/** One finding: what was found, expected beside found, why it matters, what to type, and who was asked. */
export function FindingBlock({ one, checkedAt }: { one: Finding; checkedAt: number }) {
  const open = one.verdict !== 'good';
  return (
    <details
      open={open}
      className="group border-base-300 border-t first:border-0"
      aria-label={`${subjectName(one.subject)}: ${one.verdict}`}
    >
      <summary className="flex cursor-pointer flex-wrap items-center gap-x-3 gap-y-1 py-3">
        <span className="w-20">
          <Mark verdict={one.verdict} />
        </span>
        <span className="w-28 whitespace-nowrap font-medium">{subjectName(one.subject)}</span>
        <span className="min-w-0 flex-1 basis-60 [overflow-wrap:anywhere]">{one.headline}</span>
        {one.secondsLeft !== null ? <Countdown until={checkedAt + one.secondsLeft * 1000} /> : null}
        {one.worth > one.earned ? <span className="badge badge-soft badge-sm">+{one.worth - one.earned} readiness</span> : null}
      </summary>
      <div className="pb-4 text-sm sm:pl-[5.75rem]">
        <div className="grid gap-3 md:grid-cols-2">
          <Values title="Expected" values={one.expected} others={one.seen} verdict={one.verdict} />
          <Values title={`Found at ${one.name}`} values={one.seen} others={one.expected} verdict={one.verdict} />
        </div>
        <p className="soft mt-3">{one.why}</p>
        {one.remedy ? (
          <p className="mt-1">
            <span className="font-medium">What to do: </span>
            {one.remedy}
          </p>
        ) : null}
        {one.publish.map((record) => (
          <RecordForms key={`${record.type} ${record.name} ${record.value}`} record={record} />
        ))}
        <Evidence one={one} />
      </div>
    </details>
  );
}

/** Minutes and seconds until old answers have run out. */
function Countdown({ until }: { until: number }) {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 1000);
    return () => clearInterval(timer);
  }, []);
  const left = Math.max(0, Math.round((until - now) / 1000));
  return (
    <span className="badge badge-soft badge-info badge-sm" role="timer">
      {left === 0 ? 'any moment' : `${Math.floor(left / 60)}:${String(left % 60).padStart(2, '0')} left`}
    </span>
  );
}

function Evidence({ one }: { one: Finding }) {
  if (one.evidence.length === 0) return null;
  return (
    <details className="mt-3">
      <summary className="soft cursor-pointer text-xs">
        Code {one.code} · show each query and its answer ({one.evidence.length})
      </summary>
      <ul className="mt-2 space-y-1 rounded-field bg-base-200 p-3">
        {one.evidence.map((asked) => (
          <li key={`${asked.by} ${asked.type} ${asked.name}`} className="record-text">
            <span className="soft">{asked.by}:</span> {asked.type} {asked.name} <span className="soft">→</span> {asked.answer}
            {asked.ttl === null ? null : <span className="soft"> (kept {asked.ttl} s)</span>}
          </li>
        ))}
      </ul>
    </details>
  );
}

/** The values of one side, with what the nearest value of the other side lacks marked. */
function Values({ title, values, others, verdict }: { title: string; values: string[]; others: string[]; verdict: Finding['verdict'] }) {
  const marked = verdict !== 'good' && others.length > 0;
  return (
    <div className="min-w-0 rounded-field bg-base-200 p-3">
      <p className="soft mb-1 text-xs [overflow-wrap:anywhere]">{title}</p>
      {values.length === 0 ? <p className="soft">nothing</p> : null}
      {values.map((value) => (
        <p key={value} className="record-text whitespace-pre-wrap">
          {marked && /[^ ^]/.test(value) ? <Differing value={value} other={nearest(value, others)} /> : <Unbroken text={value} />}
        </p>
      ))}
    </div>
  );
}

/** The value of the other side that this one differs least from. */
function nearest(value: string, others: string[]): string {
  const distance = (other: string): number =>
    difference(value, other).reduce((sum, piece) => sum + (piece.differs ? piece.text.length : 0), 0) +
    Math.abs(value.length - other.length);
  return [...others].sort((one, other) => distance(one) - distance(other))[0] ?? '';
}

function Differing({ value, other }: { value: string; other: string }) {
  return (
    <>
      {difference(value, other).map(({ text, differs }, at) =>
        differs ? (
          // biome-ignore lint/suspicious/noArrayIndexKey: pieces of one text, in their order
          <mark key={at} className="rounded-sm bg-warning/25 text-inherit">
            <Unbroken text={text} />
          </mark>
        ) : (
          // biome-ignore lint/suspicious/noArrayIndexKey: as above
          <Unbroken key={at} text={text} />
        ),
      )}
    </>
  );
}

/** Words longer than this have to break somewhere. */
const LONGEST_WORD = 36;

/** A record's text whose words stay whole: a browser would break “-all” after its hyphen. */
function Unbroken({ text }: { text: string }) {
  return text.split(/(\s+)/).map((word, at) =>
    word.length > LONGEST_WORD || word.trim() === '' ? (
      word
    ) : (
      // biome-ignore lint/suspicious/noArrayIndexKey: words of one text, in their order
      <span key={at} className="whitespace-nowrap">
        {word}
      </span>
    ),
  );
}

/** A record in the four forms that DNS tools ask for, each ready to copy. */
export function RecordForms({ record }: { record: SheetRecord }) {
  const forms: [string, string][] = [
    ['Type', record.type],
    ['Full name', record.name],
    ...(record.relativeName === null ? [] : [['Name in a form that appends the zone', record.relativeName] as [string, string]]),
    ['Value', record.value],
    ...(record.quoted === null ? [] : [['Value as quoted strings', record.quoted] as [string, string]]),
  ];
  return (
    <dl className="mt-3 divide-y divide-base-300 rounded-field border border-base-300">
      {forms.map(([name, text]) => (
        <div key={name} className="grid grid-cols-[1fr_auto] items-center gap-x-3 px-3 py-1.5 sm:grid-cols-[11rem_1fr_auto]">
          <dt className="soft col-span-2 text-xs sm:col-span-1">{name}</dt>
          <dd className="record-text min-w-0">
            <Unbroken text={text} />
          </dd>
          <dd>
            <CopyButton text={text} what={`${name.toLowerCase()} of the ${record.type} record ${record.name}`} />
          </dd>
        </div>
      ))}
    </dl>
  );
}

/** A record in one line, which opens to its forms. */
export function RecordRow({ record }: { record: SheetRecord }) {
  return (
    <div className="flex items-start gap-x-3 border-base-300 border-t first:border-0">
      <details className="group min-w-0 flex-1">
        <summary className="grid cursor-pointer grid-cols-[3.5rem_1fr] items-center gap-x-3 py-1.5 sm:grid-cols-[3.5rem_minmax(9rem,15rem)_1fr]">
          <span className="soft text-xs">{record.type}</span>
          <span className="record-text truncate" title={record.name}>
            {record.relativeName ?? record.name}
          </span>
          <span className="record-text hidden truncate sm:block">{record.value}</span>
        </summary>
        <div className="pb-3">
          <RecordForms record={record} />
        </div>
      </details>
      <div className="py-1">
        <CopyButton text={record.value} what={`value of ${record.type} ${record.name}`} />
      </div>
    </div>
  );
}

/** How findings have turned, newest first, on a line of time. */
export function Timeline({ rows }: { rows: FindingChange[] }) {
  if (rows.length === 0) return <Empty>No checks have run yet.</Empty>;
  return (
    <ol className="relative ml-2 border-base-300 border-l">
      {rows.map((row) => (
        <li key={row.id} className="relative pb-4 pl-6 last:pb-0">
          <span className="absolute top-1.5 -left-[5px] size-2.5 rounded-full bg-base-content/40" aria-hidden="true" />
          <p className="flex flex-wrap items-center gap-x-3 gap-y-0.5 text-sm">
            <time className="soft w-28 whitespace-nowrap" dateTime={new Date(row.at).toISOString()} title={fullTime(row.at)}>
              {shortTime(row.at)}
            </time>
            <span className="font-medium">{subjectName(row.subject)}</span>
            {row.beforeVerdict ? (
              <span className="inline-flex items-center gap-2">
                <span>
                  <Mark verdict={row.beforeVerdict} />
                </span>
                <span aria-hidden="true">→</span>
                <span className="sr-only">became</span>
              </span>
            ) : (
              <span className="soft">first seen</span>
            )}
            <Mark verdict={row.verdict} />
          </p>
          <p className="soft text-sm [overflow-wrap:anywhere]">{row.headline}</p>
        </li>
      ))}
    </ol>
  );
}
