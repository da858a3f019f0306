import { DatabaseBackup, History, SearchCheck, ShieldCheck } from 'lucide-react';
import { useState } from 'react';
import type { Backup, BackupState, UpkeepRun } from '../../src/api/backup-schemas.ts';
import { call, useCall, useChange } from '../api.ts';
import { Answer, Empty, IconButton, Panel, ProblemNote } from './blocks.tsx';
import { Dialog } from './forms.tsx';
import { Listing } from './listing.tsx';
import { Mark } from './marks.tsx';
import { RecoverForm } from './recover-form.tsx';
import { ago, count, fullTime, shortTime, size } from './words.ts';

const EVERY_MS = 2000;
/** While nothing is under way. */
const SELDOM_MS = 5000;
const KINDS = { backup: 'Backup', verify: 'Proof', integrity: 'Verify stored data' } as const;

/** When backups are made and proven, what can be restored, and what was done. */
export function Backups() {
  const state = useCall<BackupState>('/backups/state', { everyMs: EVERY_MS });
  const make = useChange<object>(() => call('POST', '/backups', {}));
  const look = useChange<object>(() => call('POST', '/integrity', { isRepairing: false }));
  const mend = useChange<object>(() => call('POST', '/integrity', { isRepairing: true }));
  const verify = useChange<object, string>((name) => call('POST', '/backups/verify', { name }));
  const isBusy = state.data?.underWay !== null;
  const [from, setFrom] = useState<string | null>(null);
  return (
    <>
      <div className="mb-4 flex flex-wrap justify-end gap-2">
        <button type="button" className="btn btn-sm" disabled={isBusy || look.isPending} onClick={() => look.mutate()}>
          <SearchCheck size={14} aria-hidden="true" /> Verify stored data
        </button>
        <button type="button" className="btn btn-sm btn-primary" disabled={isBusy || make.isPending} onClick={() => make.mutate()}>
          <DatabaseBackup size={14} aria-hidden="true" /> Back up now
        </button>
      </div>
      {make.error ? <ProblemNote problem={make.error} /> : null}
      {look.error ? <ProblemNote problem={look.error} /> : null}
      {mend.error ? <ProblemNote problem={mend.error} /> : null}
      {state.data?.lastIntegrity?.isGood === false ? (
        <div role="status" className="mb-4 rounded-box bg-error/10 p-3 text-sm">
          {state.data.lastIntegrity.outcome}
          <button type="button" className="btn btn-sm ml-3" disabled={isBusy || mend.isPending} onClick={() => mend.mutate()}>
            Repair
          </button>
        </div>
      ) : null}
      {verify.error ? <ProblemNote problem={verify.error} /> : null}
      <Panel title="Status">
        <Answer query={state}>{(one) => <State one={one} />}</Answer>
      </Panel>
      <div className="mt-4">
        <Panel title="Backups">
          <Listing<Backup>
            name="backups"
            path="/backups"
            everyMs={isBusy ? EVERY_MS : SELDOM_MS}
            searchFor="backups"
            keyOf={(one) => one.name}
            nameOf={(one) => one.name}
            columns={[
              {
                heading: 'Time',
                sort: 'at',
                down: true,
                className: 'whitespace-nowrap',
                cell: (one) => (
                  <>
                    {fullTime(one.at)}
                    <span className="soft block text-xs">{one.name}</span>
                  </>
                ),
              },
              { heading: 'Size', sort: 'size', className: 'whitespace-nowrap', cell: (one) => size(one.size) },
              {
                heading: 'Contents',
                cell: (one) => (
                  <>
                    {count(one.counts.messages, 'message')} in {count(one.counts.mailboxes, 'mailbox', 'mailboxes')}
                    <span className="soft block text-xs">
                      {count(one.counts.domains, 'domain')}, {count(one.texts, 'text file')}, {one.counts.waiting} waiting
                      {one.lost > 0 ? `; ${count(one.lost, 'message')} missing` : ''}
                    </span>
                  </>
                ),
              },
              { heading: 'Key file', cell: (one) => (one.hasKey ? 'sealed in it' : 'not in it') },
            ]}
            actions={(one) => (
              <>
                <IconButton
                  icon={History}
                  label={`Restore mail from ${one.name}`}
                  title="Restore mail of a mailbox or domain, beside the existing mail"
                  onClick={() => setFrom(one.name)}
                />
                <IconButton
                  icon={ShieldCheck}
                  label={`Prove ${one.name}`}
                  title="Verify: every checksum, the database and its counts"
                  disabled={isBusy || verify.isPending}
                  onClick={() => verify.mutate(one.name)}
                />
              </>
            )}
            empty={<Empty>There are no backups yet.</Empty>}
          />
          <p className="soft mt-3 text-sm">
            To restore a whole backup, run on the server, with an empty data directory: <code className="record-text">tenedor restore</code>
            .
          </p>
          <Dialog title={`Restore mail from ${from}`} open={from !== null} onClose={() => setFrom(null)}>
            <RecoverForm backup={from ?? ''} onClose={() => setFrom(null)} />
          </Dialog>
        </Panel>
      </div>
      <div className="mt-4">
        <Panel title="History">
          <Listing<UpkeepRun>
            name="runs"
            path="/backups/runs"
            everyMs={isBusy ? EVERY_MS : SELDOM_MS}
            searchFor="runs"
            keyOf={(one) => one.id}
            nameOf={(one) => `run ${one.id}`}
            columns={[
              { heading: 'When', sort: 'at', down: true, className: 'whitespace-nowrap', cell: (one) => fullTime(one.startedAt) },
              {
                heading: 'Type',
                cell: (one) => (
                  <>
                    {KINDS[one.kind]}
                    {one.isByHand ? <span className="soft block text-xs">by hand</span> : null}
                  </>
                ),
              },
              {
                heading: 'Result',
                sort: 'outcome',
                className: '[overflow-wrap:anywhere]',
                cell: (one) =>
                  one.isGood === null ? (
                    'under way'
                  ) : (
                    <>
                      <Mark verdict={one.isGood ? 'good' : 'wrong'} what={`run ${one.id}`} />
                      <span className="soft block text-xs">{one.outcome}</span>
                    </>
                  ),
              },
            ]}
            empty={<Empty>No backups have run yet.</Empty>}
          />
        </Panel>
      </div>
    </>
  );
}

function State({ one }: { one: BackupState }) {
  const { underWay, lastGood, lastVerified, keep } = one;
  const share = underWay && underWay.total > 0 ? Math.floor((100 * underWay.done) / underWay.total) : null;
  return (
    <>
      {underWay ? (
        <div role="status" className="mb-3 text-sm">
          {underWay.kind === 'backup'
            ? 'A backup is running'
            : underWay.kind === 'verify'
              ? `${underWay.name} is being verified`
              : 'Stored data is being verified'}
          {share === null ? ' …' : `: ${share} %`}
          <progress className="progress mt-1 block w-full max-w-md" value={share ?? undefined} max={100} aria-label="Progress" />
        </div>
      ) : null}
      <dl className="grid gap-x-6 gap-y-2 text-sm sm:grid-cols-[auto_1fr]">
        <Fact name="Last backup">
          {lastGood === null ? (
            <span className={one.isOverdue ? 'text-error' : ''}>none yet</span>
          ) : (
            <span className={one.isOverdue ? 'text-error' : ''}>
              {fullTime(lastGood.startedAt)} ({ago(lastGood.startedAt)}){one.isOverdue ? ': too long ago' : ''}
            </span>
          )}
          {one.last?.isGood === false ? <span className="block text-error">Since then one failed: {one.last.outcome}</span> : null}
        </Fact>
        <Fact name="Verified">
          {lastVerified === null ? (
            'never'
          ) : (
            <span className={lastVerified.isGood ? '' : 'text-error'}>
              {fullTime(lastVerified.startedAt)}: {lastVerified.isGood ? 'whole' : lastVerified.outcome}
            </span>
          )}
        </Fact>
        <Fact name="Stored data">
          {one.lastIntegrity === null ? (
            'not verified yet'
          ) : (
            <span className={one.lastIntegrity.isGood ? '' : 'text-error'}>
              {fullTime(one.lastIntegrity.startedAt)}: {one.lastIntegrity.isGood ? 'all is well' : one.lastIntegrity.outcome}
            </span>
          )}
        </Fact>
        <Fact name="Next">
          {one.dueAt === null
            ? 'on request only'
            : one.dueAt <= Date.now()
              ? 'within a minute'
              : `${shortTime(one.dueAt)}, every ${count(one.everyHours, 'hour')}`}
        </Fact>
        <Fact name="Directory">
          {one.target === null ? 'none; set [backup] target in the configuration' : <span className="record-text">{one.target}</span>}
        </Fact>
        {one.bucket === null ? null : (
          <Fact name="Bucket">
            <span className="record-text">{one.bucket}</span>
          </Fact>
        )}
        <Fact name="Kept">
          {keep.daily} daily, {keep.weekly} weekly, {keep.monthly} monthly
        </Fact>
        <Fact name="Key file">
          {one.isKeySealed ? 'in each backup, sealed with a passphrase' : 'not in the backup: keep a copy elsewhere'}
        </Fact>
      </dl>
    </>
  );
}

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <>
      <dt className="soft">{name}</dt>
      <dd className="[overflow-wrap:anywhere]">{children}</dd>
    </>
  );
}
