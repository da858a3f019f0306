import { MOVE_STEP_TITLES } from '../../core/vocabulary.ts';
import { troublesOfNames } from '../../store/certificates.ts';
import { countLost } from '../../store/lost-texts.ts';
import { allMovePlans } from '../../store/move-plans.ts';
import type { Readable } from '../../store/read-database.ts';
import { listCutOff } from '../../store/transfers.ts';
import { listVersionRuns } from '../../store/version-runs.ts';
import { postmasterTrouble } from '../acceptance/routing.ts';
import type { BackupState } from '../backups/backup-state.ts';
import type { Clock } from '../base/ports.ts';
import type { Space } from '../base/space.ts';
import { listNames, type NameRow } from '../certificates/name-rows.ts';
import type { OverviewDeps } from './deps.ts';

/** Something that needs attention; without a domain it concerns the host or all of them. */
export interface Attention {
  harm: 'high' | 'medium' | 'low';
  kind:
    | 'finding'
    | 'limit'
    | 'queue'
    | 'unchecked'
    | 'stop'
    | 'unusual'
    | 'lockout'
    | 'certificate'
    | 'backup'
    | 'transfer'
    | 'move'
    | 'update';
  domain: string | null;
  headline: string;
  /** How many more of the kind there are. */
  also: number;
}
/** Names that programs are warned of, and those that soon will be; the worst first. */
async function badNames(context: OverviewDeps): Promise<NameRow[]> {
  return (await listNames(context))
    .filter((one) => one.verdict === 'wrong' || one.verdict === 'weak')
    .sort((one, other) => Number(other.verdict === 'wrong') - Number(one.verdict === 'wrong'));
}

const FOUND_KEPT_MS = 60_000;
/** There are two names for each domain: they are gone through anew when a certificate or a trouble has come or gone, and each minute. */
const found = new WeakMap<OverviewDeps['certificates'], { of: string; at: number; bad: Promise<NameRow[]> }>();

export async function certificateAttention(context: OverviewDeps): Promise<Attention[]> {
  const { certificates, clock, db } = context;
  const of = `${certificates.edition} ${troublesOfNames(db)}`;
  let last = found.get(certificates);
  if (!last || last.of !== of || Math.abs(clock.now() - last.at) >= FOUND_KEPT_MS) {
    last = { of, at: clock.now(), bad: badNames(context) };
    found.set(certificates, last);
    last.bad.catch(() => found.delete(certificates));
  }
  const bad = await last.bad;
  const [first] = bad;
  if (!first) return [];
  return [
    {
      harm: first.verdict === 'wrong' && first.findings[0]?.code !== 'certificate-self-signed' ? 'medium' : 'low',
      kind: 'certificate',
      domain: first.domain,
      headline: `The certificate for ${first.name}: ${first.findings[0]?.text ?? ''}`,
      also: bad.length - 1,
    },
  ];
}

const SILENT_TOLD_MS = 15_000;

export async function postmasterAttention(context: OverviewDeps): Promise<Attention[]> {
  const trouble = await postmasterTrouble(context);
  if (trouble === null) return [];
  return [
    general(
      'high',
      'finding',
      `Mail to postmaster and abuse cannot be delivered: ${trouble}. Add the mailbox ${context.host.postmaster} here, or set another one.`,
    ),
  ];
}

export function spaceAttention({ space }: { space: Pick<Space, 'state' | 'free'> }): Attention[] {
  const { state, free } = space;
  if (state === 'plenty') return [];
  const left = free === null ? '' : ` ${Math.floor(free / 1024 ** 2).toLocaleString('en')} MiB are free.`;
  if (state === 'low')
    return [general('medium', 'finding', `The disk is nearly full.${left} Free some space before mail has to be refused.`)];
  return [general('high', 'finding', `The disk is full: new mail is refused temporarily.${left} Free some space.`)];
}

/** None has succeeded for too long, or one could not be proven. */
export function backupAttention({ isOverdue, lastGood, last, lastVerified, lastIntegrity }: BackupState): Attention[] {
  const found: Attention[] = [];
  if (isOverdue)
    found.push(
      general(
        'high',
        'backup',
        `${lastGood === null ? 'No backup has succeeded yet' : `The last backup is of ${new Date(lastGood.startedAt).toISOString().slice(0, 10)}`}.${last?.isGood === false ? ` ${last.outcome}` : ''} See: tenedor backup state`,
      ),
    );
  else if (last?.isGood === false)
    found.push(
      general(
        'medium',
        'backup',
        `${last.name === null ? 'The last backup failed' : `The backup ${last.name} has no copy in the bucket`}: ${last.outcome} See: tenedor backup state`,
      ),
    );
  if (lastIntegrity?.isGood === false) found.push(general('high', 'backup', `Stored data is damaged: ${lastIntegrity.outcome}`));
  if (lastVerified?.isGood === false && lastVerified.name === lastGood?.name)
    found.push(general('high', 'backup', `The backup ${lastVerified.name} is damaged: ${lastVerified.outcome}`));
  return found;
}

const TRANSFER_TOLD_MS = 7 * 86_400_000;

/** Mail that was being carried when the service stopped. */
export function transferAttention({ db, clock }: { db: Readable; clock: Pick<Clock, 'now'> }): Attention[] {
  const [first, ...more] = listCutOff(db, clock.now() - TRANSFER_TOLD_MS);
  if (!first) return [];
  const text = `The transfer of ${first.subject} was interrupted by a restart. Continue it: tenedor transfer resume ${first.id}`;
  return [{ ...general('medium', 'transfer', text), also: more.length }];
}

/** Domains that move here and wait for somebody. */
export function moveAttention({ db }: { db: Readable }): Attention[] {
  return allMovePlans(db)
    .filter(({ state }) => state === 'wrong' || state === 'next' || state === 'done')
    .map(({ domain, step, state, said }) => ({
      harm: state === 'wrong' ? 'medium' : 'low',
      kind: 'move',
      domain,
      headline:
        step === null
          ? 'Its migration is complete; end the move plan.'
          : `${state === 'wrong' ? 'Its move stands' : 'Its move'}: ${MOVE_STEP_TITLES[step]}. ${said}`,
      also: 0,
    }));
}

const UPDATE_TOLD_MS = 3 * 86_400_000;

/** Another version than a few days ago. */
export function updateAttention({ db, clock, version }: OverviewDeps): Attention[] {
  const [now, before] = listVersionRuns(db);
  if (!now || !before || clock.now() - now.since > UPDATE_TOLD_MS) return [];
  return [general('low', 'update', `Tenedor ${version} replaced ${before.version}. See the changes: tenedor update list`)];
}

/** A clock that was wrong, or was set while the service runs. */
export function clockAttention({ clock }: OverviewDeps): Attention[] {
  if (clock.ahead > 0)
    return [
      general(
        'high',
        'finding',
        `The ledger is ${span(clock.ahead)} ahead of this machine’s clock: it was written to while the clock was wrong. See: tenedor clock show`,
      ),
    ];
  if (clock.stepped === 0) return [];
  const how = clock.stepped > 0 ? 'forward' : 'back';
  return [
    general(
      'low',
      'finding',
      `The machine’s clock was set ${how} by ${span(Math.abs(clock.stepped))} while the service ran; waits and limits did not move.`,
    ),
  ];
}

export const span = (ms: number): string => {
  const minutes = Math.round(ms / 60_000);
  return minutes < 120 ? `${minutes} minutes` : `${Math.round(minutes / 60)} hours`;
};

export function lostAttention({ db }: { db: Readable }): Attention[] {
  const lost = countLost(db);
  if (lost === 0) return [];
  return [
    general(
      'high',
      'finding',
      `The text of ${lost} ${lost === 1 ? 'message is' : 'messages is'} missing or damaged on the disk. Repair: tenedor integrity repair`,
    ),
  ];
}

/** Minutes in which everybody waited, and for what. */
export function loopAttention({ loop }: OverviewDeps): Attention[] {
  const [worst] = [...loop.slowMinutes].sort((one, other) => other.ms - one.ms);
  if (!worst) return [];
  const time = new Date(worst.at).toISOString().slice(11, 16);
  return [
    general(
      'low',
      'finding',
      `The service did not respond for ${(worst.ms / 1000).toFixed(1)} s at ${time} UTC${worst.what === null ? '' : `, during ${worst.what}`}.`,
    ),
  ];
}

/** Resolvers that are silent at this moment; while one answers, mail goes on. */
export function resolverAttention({ dns }: OverviewDeps): Attention[] {
  const states = dns.resolvers();
  // Somebody's dead zone may cost a resolver one reply or two.
  const silent = states.filter((one) => one.state === 'silent' && (one.silentMs ?? 0) >= SILENT_TOLD_MS);
  if (silent.length === 0) return [];
  const all = silent.length === states.length;
  const which = silent.map((one) => one.address).join(' and ');
  return [
    general(
      all ? 'high' : 'medium',
      'finding',
      `The ${silent.length === 1 ? `resolver ${which} does` : `resolvers ${which} do`} not answer${all ? ': mail can be neither sent nor verified' : '; the others are used instead'}.`,
    ),
  ];
}

export const general = (harm: Attention['harm'], kind: Attention['kind'], headline: string): Attention => ({
  harm,
  kind,
  domain: null,
  headline,
  also: 0,
});
