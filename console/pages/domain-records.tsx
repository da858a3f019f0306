import { RotateCw } from 'lucide-react';
import type { CheckReport, Domain, Finding, RecordSheet, SheetRecord } from '../../src/api/schemas.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { Answer, CopyButton, Empty, Panel, ProblemNote } from '../parts/blocks.tsx';
import { Mark } from '../parts/marks.tsx';
import { ago, SUBJECT_NAMES } from '../parts/words.ts';

/** What is published beside what should be, and the record sheet to type from. */
export function RecordsTab({ domain, report }: { domain: Domain; report: CheckReport | null }) {
  const check = useChange<CheckReport>(() => call('POST', `/domains/${part(domain.name)}/check`));
  const checkable = domain.role === 'home' || domain.role === 'away';
  return (
    <div className="space-y-4">
      <Panel
        title="Findings"
        aside={
          <span className="flex items-center gap-3">
            <span className="soft text-sm" role="status">
              {check.isPending ? 'Asking the name servers …' : report ? `checked ${ago(report.checkedAt)}` : ''}
            </span>
            <button
              type="button"
              className="btn btn-sm btn-primary"
              disabled={check.isPending || !checkable}
              onClick={() => check.mutate()}
            >
              <RotateCw size={14} className={check.isPending ? 'animate-spin' : ''} aria-hidden="true" />{' '}
              {report ? 'Check again' : 'Check now'}
            </button>
          </span>
        }
      >
        {check.error ? <ProblemNote problem={check.error} /> : null}
        {!checkable ? <Empty>The role {domain.role} is stored and not served yet, so its records can’t be checked.</Empty> : null}
        {checkable && report === null ? <Empty>Nobody has looked yet at what this domain publishes.</Empty> : null}
        {report?.findings.map((one) => (
          <FindingBlock key={one.subject} one={one} />
        ))}
      </Panel>
      {domain.role === 'home' ? <Sheet domain={domain} /> : null}
    </div>
  );
}

export function FindingBlock({ one }: { one: Finding }) {
  const open = one.verdict !== 'good';
  return (
    <details
      open={open}
      className="group border-base-300 border-t first:border-0"
      aria-label={`${SUBJECT_NAMES[one.subject]}: ${one.verdict}`}
    >
      <summary className="flex cursor-pointer flex-wrap items-center gap-x-3 gap-y-1 py-3">
        <span className="w-20">
          <Mark verdict={one.verdict} />
        </span>
        <span className="w-28 whitespace-nowrap font-medium">{SUBJECT_NAMES[one.subject]}</span>
        <span className="min-w-0 flex-1 basis-60 [overflow-wrap:anywhere]">{one.headline}</span>
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
          <RecordForms key={`${record.type} ${record.name}`} record={record} />
        ))}
      </div>
    </details>
  );
}

/** The values of one side; where a single one stands on each, the part that differs is marked. */
function Values({ title, values, others, verdict }: { title: string; values: string[]; others: string[]; verdict: Finding['verdict'] }) {
  const compare = verdict !== 'good' && values.length === 1 && others.length === 1 ? (others[0] ?? '') : null;
  return (
    <div className="min-w-0 rounded-field bg-base-200 p-3">
      <p className="soft mb-1 text-xs [overflow-wrap:anywhere]">{title}</p>
      {values.length === 0 ? <p className="soft">nothing</p> : null}
      {values.map((value) => (
        <p key={value} className="record-text">
          {compare === null ? value : <Differing value={value} other={compare} />}
        </p>
      ))}
    </div>
  );
}

function Differing({ value, other }: { value: string; other: string }) {
  const most = Math.min(value.length, other.length);
  let begin = 0;
  while (begin < most && value[begin] === other[begin]) begin += 1;
  let end = 0;
  while (end < most - begin && value.at(-1 - end) === other.at(-1 - end)) end += 1;
  const middle = value.slice(begin, value.length - end);
  return (
    <>
      {value.slice(0, begin)}
      {middle === '' ? null : <mark className="rounded-sm bg-warning/25 text-inherit">{middle}</mark>}
      {value.slice(value.length - end)}
    </>
  );
}

/** A record in the forms that DNS tools ask for, each ready to copy. */
function RecordForms({ record }: { record: SheetRecord }) {
  const forms: [string, string][] = [
    ['Type', record.type],
    ['Full name', record.name],
    ...(record.relativeName === null ? [] : [['Name in a form that appends the zone', record.relativeName] as [string, string]]),
    ['Value', record.value],
  ];
  return (
    <dl className="mt-3 divide-y divide-base-300 rounded-field border border-base-300">
      {forms.map(([name, text]) => (
        <div key={name} className="grid items-center gap-x-3 px-3 py-1.5 sm:grid-cols-[11rem_1fr_auto]">
          <dt className="soft text-xs">{name}</dt>
          <dd className="record-text min-w-0">{text}</dd>
          <CopyButton text={text} what={`${name.toLowerCase()} of the ${record.type} record ${record.name}`} />
        </div>
      ))}
    </dl>
  );
}

const WHERE: Record<SheetRecord['where'], (domain: string) => string> = {
  domain: (domain) => `In the zone ${domain}`,
  host: () => 'In the host’s own zone',
  'address-owner': () => 'From whoever holds the address block, by request',
};

function Sheet({ domain }: { domain: Domain }) {
  const query = useCall<RecordSheet>(`/domains/${part(domain.name)}/records`);
  return (
    <Panel
      title="Record sheet"
      aside={
        query.data ? (
          <span className="flex items-center gap-1 text-sm">
            As a zone file <CopyButton text={query.data.zone} what="zone file" />
          </span>
        ) : null
      }
    >
      <p className="soft mb-3 text-sm">What the domain should publish, for copying into any DNS form.</p>
      <Answer query={query}>
        {(sheet) => (
          <div className="space-y-5">
            {(['domain', 'host', 'address-owner'] as const).map((where) => (
              <div key={where}>
                <h3 className="font-medium text-sm">{WHERE[where](domain.name)}</h3>
                {sheet.records
                  .filter((record) => record.where === where)
                  .map((record) => (
                    <RecordForms key={`${record.type} ${record.name} ${record.value}`} record={record} />
                  ))}
              </div>
            ))}
          </div>
        )}
      </Answer>
    </Panel>
  );
}
