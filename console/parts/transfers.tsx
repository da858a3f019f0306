import { CircleStop, FileInput, FileOutput, MailPlus, Play, Redo2 } from 'lucide-react';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import type { MovePlan } from '../../src/api/move-schemas.ts';
import type { Transfer, TransferDetails } from '../../src/api/transfer-schemas.ts';
import { MOVE_STEP_TITLES, type TransferKind, type TransferState } from '../../src/core/vocabulary.ts';
import { call, useCall, useChange } from '../api.ts';
import { Answer, Empty, Panel, ProblemNote, Table } from './blocks.tsx';
import { Dialog } from './forms.tsx';
import { Listing } from './listing.tsx';
import { Mark } from './marks.tsx';
import { ExportForm, ImportFilesForm, ImportImapForm } from './transfer-forms.tsx';
import { count, fullTime, size } from './words.ts';

const EVERY_MS = 1500;
const KINDS: Record<TransferKind, string> = { recover: 'Restored', import: 'Import', export: 'Export' };
const FORMS = { files: 'Import files', imap: 'Import from another server', export: 'Export' } as const;
const STATES: Record<TransferState, { verdict: 'good' | 'weak' | 'wrong' | 'waiting'; word: string }> = {
  'under-way': { verdict: 'waiting', word: 'under way' },
  done: { verdict: 'good', word: 'done' },
  partly: { verdict: 'weak', word: 'partly' },
  failed: { verdict: 'wrong', word: 'failed' },
  stopped: { verdict: 'weak', word: 'stopped' },
};

const howFar = (one: Pick<Transfer, 'done' | 'total'>): string =>
  one.total > 0 ? `${one.done.toLocaleString('en')} of ${count(one.total, 'message')}` : count(one.done, 'message');

/** Mail that was imported, exported and brought back, and what is under way. */
export function Transfers() {
  const [params, setParams] = useSearchParams();
  const [form, setForm] = useState<keyof typeof FORMS | null>(null);
  const shown = params.get('transfer');
  const open = (id: number): void => {
    setForm(null);
    setParams({ tab: 'mail', transfer: String(id) });
  };
  const props = { onBegun: (one: Transfer) => open(one.id), onClose: () => setForm(null) };
  return (
    <>
      <div className="mb-4 flex flex-wrap justify-end gap-2">
        <button type="button" className="btn btn-sm" onClick={() => setForm('export')}>
          <FileOutput size={14} aria-hidden="true" /> Export
        </button>
        <button type="button" className="btn btn-sm" onClick={() => setForm('files')}>
          <FileInput size={14} aria-hidden="true" /> Import files
        </button>
        <button type="button" className="btn btn-sm btn-primary" onClick={() => setForm('imap')}>
          <MailPlus size={14} aria-hidden="true" /> Import from another server
        </button>
      </div>
      <Dialog title={form === null ? '' : FORMS[form]} open={form !== null} onClose={() => setForm(null)}>
        {form === 'files' ? <ImportFilesForm {...props} /> : form === 'imap' ? <ImportImapForm {...props} /> : <ExportForm {...props} />}
      </Dialog>
      {shown !== null && /^\d+$/.test(shown) ? (
        <div className="mb-4">
          <Details id={shown} onOpen={open} />
        </div>
      ) : null}
      <Moves />
      <Panel title="Transfers">
        <Listing<Transfer>
          name=""
          path="/transfers"
          everyMs={EVERY_MS}
          searchFor="transfers"
          keyOf={(one) => one.id}
          nameOf={(one) => `transfer ${one.id}`}
          columns={[
            { heading: 'Started', sort: 'at', down: true, className: 'whitespace-nowrap', cell: (one) => fullTime(one.startedAt) },
            {
              heading: 'Subject',
              sort: 'subject',
              className: '[overflow-wrap:anywhere]',
              cell: (one) => (
                <>
                  <button type="button" className="link text-left" onClick={() => open(one.id)}>
                    {one.subject}
                  </button>
                  <span className="soft block text-xs">
                    {KINDS[one.kind]} {one.place}
                  </span>
                </>
              ),
            },
            {
              heading: 'State',
              sort: 'state',
              className: '[overflow-wrap:anywhere]',
              cell: (one) => (
                <>
                  <Mark {...STATES[one.state]} what={`transfer ${one.id}`} />
                  <span className="soft block text-xs">{one.endedAt === null ? howFar(one) : one.outcome}</span>
                </>
              ),
            },
          ]}
          empty={<Empty>There are no transfers yet.</Empty>}
        />
      </Panel>
    </>
  );
}

/** Domains on their way here; nothing where there is none. */
function Moves() {
  const query = useCall<{ total: number; rows: MovePlan[] }>('/move-plans?limit=500', { everyMs: 5000 });
  if (!query.data || query.data.total === 0) return null;
  return (
    <div className="mb-4">
      <Panel title="Domains moving here">
        <Table label="Domains moving here">
          <thead>
            <tr>
              <th>Domain</th>
              <th>From</th>
              <th>Now</th>
            </tr>
          </thead>
          <tbody>
            {query.data.rows.map((one) => (
              <tr key={one.domain}>
                <td className="[overflow-wrap:anywhere]">
                  <Link className="link" to={`/domains/${one.domain}?tab=move`}>
                    {one.domain}
                  </Link>
                </td>
                <td className="[overflow-wrap:anywhere]">{one.server}</td>
                <td>
                  {one.step === null ? 'All steps are complete.' : `${MOVE_STEP_TITLES[one.step]}: ${one.state.replace('-', ' ')}`}
                  <span className="soft block text-xs">{one.step === null ? '' : one.said}</span>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Panel>
    </div>
  );
}

/** One of them: how far it is, mailbox by mailbox, and what was left out. */
function Details({ id, onOpen }: { id: string; onOpen: (id: number) => void }) {
  const query = useCall<TransferDetails>(`/transfers/${id}`, { everyMs: EVERY_MS });
  const stop = useChange<Transfer>(() => call('POST', `/transfers/${id}/stop`, {}));
  const resume = useChange<Transfer>(() => call('POST', `/transfers/${id}/resume`, {}));
  const again = useChange<Transfer>(
    () => call('POST', `/transfers/${id}/again`, {}),
    (one) => onOpen(one.id),
  );
  const problem = stop.error ?? resume.error ?? again.error;
  return (
    <Answer query={query}>
      {(one) => (
        <Panel title={`${KINDS[one.kind]}: ${one.subject}`}>
          {problem ? <ProblemNote problem={problem} /> : null}
          <div className="mb-3 flex flex-wrap items-start justify-between gap-3 text-sm">
            <p className="min-w-60 flex-1 [overflow-wrap:anywhere]">
              <span className="font-medium">{STATES[one.state].word.replace(/^./, (letter) => letter.toUpperCase())}</span>, {one.place}
              <span className="soft block">{one.endedAt === null ? `${howFar(one)} so far` : one.outcome}</span>
            </p>
            {one.state === 'under-way' ? (
              <button type="button" className="btn btn-sm" disabled={stop.isPending} onClick={() => stop.mutate()}>
                <CircleStop size={14} aria-hidden="true" /> Stop
              </button>
            ) : one.state === 'done' ? (
              <button type="button" className="btn btn-sm" disabled={again.isPending} onClick={() => again.mutate()}>
                <Redo2 size={14} aria-hidden="true" /> Run again for new mail
              </button>
            ) : (
              <button type="button" className="btn btn-sm" disabled={resume.isPending} onClick={() => resume.mutate()}>
                <Play size={14} aria-hidden="true" /> Continue
              </button>
            )}
          </div>
          {one.state === 'under-way' ? (
            <progress
              className="progress mb-3 block w-full max-w-md"
              value={one.total > 0 ? one.done : undefined}
              max={Math.max(1, one.total)}
              aria-label="Progress"
            />
          ) : null}
          <Mailboxes one={one} />
          {one.leftOutList.length > 0 ? <LeftOut one={one} /> : null}
        </Panel>
      )}
    </Answer>
  );
}

function Mailboxes({ one }: { one: TransferDetails }) {
  return (
    <Table label="Mailboxes">
      <thead>
        <tr>
          <th>Mailbox</th>
          <th>Checked</th>
          <th>Copied</th>
          <th>Already here</th>
          <th>Left out</th>
          <th>Size</th>
          <th>State</th>
        </tr>
      </thead>
      <tbody>
        {one.parts.map((part) => (
          <tr key={part.part}>
            <td className="[overflow-wrap:anywhere]">{part.address}</td>
            <td>{part.done.toLocaleString('en')}</td>
            <td>{part.taken.toLocaleString('en')}</td>
            <td>{part.known.toLocaleString('en')}</td>
            <td>{part.leftOut.toLocaleString('en')}</td>
            <td className="whitespace-nowrap">{size(part.octets)}</td>
            <td className={`[overflow-wrap:anywhere] ${part.fault === null ? '' : 'text-error'}`}>
              {part.fault ?? (part.isOver ? 'over' : part.folder || 'begins')}
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

function LeftOut({ one }: { one: TransferDetails }) {
  return (
    <details className="mt-3 text-sm" open={one.leftOutList.length <= 5}>
      <summary className="cursor-pointer font-medium">
        {one.leftOut > one.leftOutList.length
          ? `Left out: the first ${one.leftOutList.length} of ${one.leftOut}`
          : `Left out: ${one.leftOut}`}
      </summary>
      <ul className="mt-2 space-y-1">
        {one.leftOutList.map((left) => (
          <li key={`${left.address} ${left.folder} ${left.what}`} className="[overflow-wrap:anywhere]">
            <span className="record-text">{left.what}</span> {left.folder === '' || left.what.startsWith('/') ? '' : `in ${left.folder} `}
            <span className="soft">{left.why}</span>
          </li>
        ))}
      </ul>
    </details>
  );
}
