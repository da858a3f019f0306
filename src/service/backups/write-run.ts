import type { EventOf } from '../../core/journal/events.ts';
import type { UpkeepKind } from '../../core/vocabulary.ts';
import type { BackupResult } from '../../store/backup/work.ts';
import { addEntry } from '../../store/journeys.ts';
import { addLost, removeLost } from '../../store/lost-texts.ts';
import { recountDomain, recountMailbox } from '../../store/mailbox-use.ts';
import { StoreError } from '../../store/open-data.ts';
import * as store from '../../store/upkeep-runs.ts';
import { faultText } from '../base/problem.ts';
import type { BackupDeps } from './deps.ts';
import { integrityWords, madeWords, type Outcome, verifiedWords } from './outcome-words.ts';

/** Writes down that something is under way, and then what came of it. */
export async function writeRun(
  context: BackupDeps,
  result: Promise<BackupResult>,
  run: Parameters<typeof store.beginRun>[1],
): Promise<store.UpkeepRun> {
  const { db, clock, log } = context;
  const id = await db.commit(() => store.beginRun(db, run));
  const end = await result.then(
    (found) => outcomeOf(context, found),
    (error: unknown) => {
      if (!(error instanceof StoreError)) log.error({ fault: faultText(error) }, 'a backup failed');
      return {
        name: null,
        isGood: false,
        outcome: error instanceof StoreError ? error.message : 'It failed. See the service’s log for details.',
      };
    },
  );
  const at = clock.now();
  await db.commit(() => {
    store.endRun(db, id, { ...end, at });
    addEntry(db, { at, journeyId: null, domain: null, ...entryOf(run.kind, end.isGood, end.name ?? run.name ?? '', end.outcome) });
  });
  log[end.isGood ? 'info' : 'error']({ kind: run.kind, name: end.name ?? run.name, target: run.target }, end.outcome);
  return { ...run, id, name: end.name ?? run.name, endedAt: at, isGood: end.isGood, outcome: end.outcome };
}

/** What came of it, in words; what was found wrong with what is stored is written down, and mended where that is wanted. */
async function outcomeOf({ db, clock }: BackupDeps, result: BackupResult): Promise<Outcome> {
  if (result.kind === 'backup') return madeWords(result.made);
  if (result.kind === 'verify') return verifiedWords(result.verified);
  if (result.kind === 'content' || result.kind === 'list') throw new Error('a look into a backup is no run of upkeep');
  const { found, isRepairing } = result;
  await db.commit(() => {
    for (const one of found.lost)
      if (one.isBack) removeLost(db, one.file);
      else if (addLost(db, { file: one.file, how: one.how === 'gone' ? 'gone' : 'changed', journeyId: '', at: clock.now() }))
        addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'text-lost', data: { file: one.file, how: one.how } });
    if (!isRepairing) return;
    for (const { id } of found.miscounted.mailboxes) recountMailbox(db, id);
    for (const { id } of found.miscounted.domains) recountDomain(db, id);
  });
  return integrityWords(found, isRepairing);
}

function entryOf(kind: UpkeepKind, isGood: boolean, name: string, outcome: string): EventOf {
  if (kind === 'integrity') return { event: 'integrity-checked', data: { outcome } };
  const event = kind === 'backup' ? (isGood ? 'backup-made' : 'backup-failed') : isGood ? 'backup-verified' : 'backup-damaged';
  return { event, data: { name, outcome } };
}
