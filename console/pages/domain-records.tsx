import { RotateCw } from 'lucide-react';
import { useState } from 'react';
import type { CheckReport, DomainLetter, Publication, RecordSheet, SheetRecord } from '../../src/api/dns-schemas.ts';
import type { Domain } from '../../src/api/schemas.ts';
import { SUBJECTS } from '../../src/core/vocabulary.ts';
import { call, part, useCall, useChange, useNews } from '../api.ts';
import { Answer, Empty, Panel, ProblemNote } from '../parts/blocks.tsx';
import { CopyButton } from '../parts/copy.tsx';
import { FindingBlock, RecordRow } from '../parts/findings.tsx';
import { Dialog, Form, FormEnd } from '../parts/forms.tsx';
import { ago, count, subjectName } from '../parts/words.ts';
import { SpfPanel } from './domain-spf.tsx';

/** What is published beside what should be, and the record sheet to type from. */
export function RecordsTab({ domain, report }: { domain: Domain; report: CheckReport | null }) {
  const [done, setDone] = useState<string[]>([]);
  const check = useChange<CheckReport>(() => {
    setDone([]);
    return call('POST', `/domains/${part(domain.name)}/check`);
  });
  useNews('check-step', (news) => {
    if (news['domain'] === domain.name) setDone((before) => [...before, String(news['subject'])]);
  });
  const [reading, setReading] = useState(false);
  const left = SUBJECTS.filter((subject) => !done.includes(subject)).map((subject) => subjectName(subject));
  return (
    <div className="space-y-4">
      <Panel
        title="Findings"
        aside={
          <span className="flex flex-wrap items-center gap-x-3 gap-y-2">
            <span className="soft text-sm" role="status">
              {check.isPending
                ? `Asking the name servers, ${count(done.length, 'part')} done; next ${left[0] ?? 'to compare'} …`
                : report
                  ? `checked ${ago(report.checkedAt)}`
                  : ''}
            </span>
            {report && !report.good ? (
              <button type="button" className="btn btn-sm" onClick={() => setReading(true)}>
                Letter to the customer …
              </button>
            ) : null}
            <button type="button" className="btn btn-sm btn-primary" disabled={check.isPending} onClick={() => check.mutate()}>
              <RotateCw size={14} className={check.isPending ? 'animate-spin' : ''} aria-hidden="true" />{' '}
              {report ? 'Check again' : 'Check now'}
            </button>
          </span>
        }
      >
        {check.isPending ? (
          <progress
            className="progress progress-primary mb-2 w-full"
            value={done.length}
            max={SUBJECTS.length}
            aria-label="Progress of the check"
          />
        ) : null}
        {check.error ? <ProblemNote problem={check.error} /> : null}
        {report === null ? <Empty>This domain’s records have not been checked yet.</Empty> : null}
        {report?.findings.map((one) => (
          <FindingBlock key={`${one.code} ${one.headline}`} one={one} checkedAt={report.checkedAt} />
        ))}
      </Panel>
      <Sheet domain={domain} />
      <SpfPanel domain={domain} />
      <Dialog title={`Letter about ${domain.name}`} open={reading} onClose={() => setReading(false)} wide>
        {reading ? <Letter domain={domain.name} /> : null}
      </Dialog>
    </div>
  );
}

/** What the customer is to change, ready to be sent. */
function Letter({ domain }: { domain: string }) {
  const query = useCall<DomainLetter>(`/domains/${part(domain)}/letter`);
  return (
    <Answer query={query}>
      {({ customer, contact, letter, unknown }) =>
        letter === null && unknown.length > 0 ? (
          <p className="text-sm">
            It is not known whether the customer needs to change anything: no name server answered about{' '}
            {unknown.map(subjectName).join(', ')}. Check the domain again.
          </p>
        ) : letter === null ? (
          <p className="text-sm">The customer does not need to change anything: the findings are yours to fix, or only need time.</p>
        ) : (
          <div className="space-y-3 text-sm">
            <p>
              To <span className="font-medium">{contact === null ? customer : `${customer}, ${contact}`}</span>
            </p>
            <p className="flex items-center gap-2">
              <span className="font-medium">{letter.subject}</span> <CopyButton text={letter.subject} what="subject" />
            </p>
            {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard */}
            <pre className="record-text max-h-96 overflow-auto whitespace-pre-wrap rounded-field bg-base-200 p-3" tabIndex={0}>
              {letter.text}
            </pre>
            {unknown.length > 0 ? (
              <p className="soft">No name server answered about {unknown.map(subjectName).join(', ')}: there may be more to change.</p>
            ) : null}
            <CopyButton text={letter.text} what="letter" label="Copy the letter" />
          </div>
        )
      }
    </Answer>
  );
}

const WHERE: Record<SheetRecord['where'], (domain: string) => string> = {
  domain: (domain) => `In the zone ${domain}`,
  host: () => 'In the host’s own zone',
  'address-owner': () => 'From the holder of the address block, on request',
};

function Sheet({ domain }: { domain: Domain }) {
  const query = useCall<RecordSheet>(`/domains/${part(domain.name)}/records`);
  const [publishing, setPublishing] = useState(false);
  return (
    <Panel
      title="Record sheet"
      aside={
        query.data ? (
          <span className="flex items-center gap-2 text-sm">
            {query.data.updates === null ? null : (
              <button type="button" className="btn btn-sm" onClick={() => setPublishing(true)}>
                Publish into the zone {query.data.updates} …
              </button>
            )}
            <span className="flex items-center gap-1">
              As a zone file <CopyButton text={query.data.zone} what="zone file" />
            </span>
          </span>
        ) : null
      }
    >
      <p className="soft mb-3 text-sm">The records that the domain should publish, merged with its existing ones, for any DNS form.</p>
      <Answer query={query}>
        {(sheet) => (
          <div className="space-y-5">
            <StageNote sheet={sheet} />
            {(['domain', 'host', 'address-owner'] as const).map((where) => (
              <div key={where}>
                <h3 className="flex items-center gap-2 font-medium text-sm">
                  {WHERE[where](domain.name)}
                  {where === 'address-owner' ? <CopyButton text={sheet.request} what="text of the request" /> : null}
                </h3>
                {sheet.records
                  .filter((record) => record.where === where)
                  .map((record) => (
                    <RecordRow key={`${record.type} ${record.name} ${record.value}`} record={record} />
                  ))}
              </div>
            ))}
          </div>
        )}
      </Answer>
      <PublishDialog domain={publishing ? domain.name : null} onClose={() => setPublishing(false)} />
    </Panel>
  );
}

function StageNote({ sheet }: { sheet: RecordSheet }) {
  const { stage, next } = sheet.dmarc;
  const lines = [
    ...sheet.notes,
    ...(next && !next.due ? [`DMARC is at p=${stage}; the next stage is ${next.stage}: ${next.reason}.`] : []),
  ];
  if (lines.length === 0) return null;
  return (
    <ul className="list-disc space-y-1 pl-5 text-sm">
      {lines.map((line) => (
        <li key={line}>{line}</li>
      ))}
    </ul>
  );
}

/** Shows the difference first; then makes it. */
function PublishDialog({ domain, onClose }: { domain: string | null; onClose: () => void }) {
  return (
    <Dialog title={`Publish the records of ${domain ?? ''}`} open={domain !== null} onClose={onClose}>
      {domain === null ? null : <PublishForm domain={domain} onClose={onClose} />}
    </Dialog>
  );
}

function PublishForm({ domain, onClose }: { domain: string; onClose: () => void }) {
  const path = `/domains/${part(domain)}/records/publish`;
  const difference = useChangeOnce<Publication>(() => call('POST', path, { dryRun: true }));
  const publish = useChange<Publication>(() => call('POST', path, { dryRun: false }));
  const shown = publish.data ?? difference.data;
  return (
    <Form
      problem={publish.error}
      onSubmit={(event) => {
        event.preventDefault();
        if (publish.data || shown?.changes.length === 0) onClose();
        else publish.mutate();
      }}
    >
      {difference.error ? <ProblemNote problem={difference.error} /> : null}
      {shown === undefined && !difference.error ? <p className="soft text-sm">Asking the name server …</p> : null}
      {shown?.changes.length === 0 ? <p className="text-sm">The zone {shown.zone} is up to date.</p> : null}
      {shown && shown.changes.length > 0 ? (
        <>
          <p className="mb-2 text-sm">
            {publish.data ? 'Made in' : 'To make in'} the zone {shown.zone} at {shown.server}; no other record is touched:
          </p>
          <ul className="space-y-1 rounded-field bg-base-200 p-3">
            {shown.changes.map((one) => (
              <li
                key={`${one.action} ${one.type} ${one.name} ${one.value}`}
                className={`record-text ${one.action === 'add' ? 'text-success' : 'text-error'}`}
              >
                {one.action === 'add' ? '+ add' : '− remove'} {one.type} {one.name} {one.value}
              </li>
            ))}
          </ul>
        </>
      ) : null}
      <FormEnd
        action={publish.data || shown?.changes.length === 0 ? 'Done' : 'Publish'}
        busy={publish.isPending || shown === undefined}
        problem={publish.error}
        onCancel={onClose}
      />
    </Form>
  );
}

/** Asks once, when the form opens. */
function useChangeOnce<T>(act: () => Promise<T>) {
  const change = useChange<T>(act);
  const [asked, setAsked] = useState(false);
  if (!asked) {
    setAsked(true);
    queueMicrotask(() => change.mutate());
  }
  return change;
}
