import { domainSide } from '../../core/address/sides.ts';
import { type Finding, leading } from '../../core/checks/finding.ts';
import { HOUR } from '../../core/limits/periods.ts';
import { scopeKey } from '../../core/limits/scope-key.ts';
import type { DomainSubject, Verdict } from '../../core/vocabulary.ts';
import { findDomain } from '../../store/domains.ts';
import { outcomesByHour } from '../../store/ledger.ts';
import { recentWarnings, scopeName } from '../../store/limits.ts';
import * as store from '../../store/overview.ts';
import { countHeld } from '../../store/queue.ts';
import { listUnusual } from '../../store/stops.ts';
import { limitText } from '../../texts/en/limits.ts';
import { listLockouts } from '../access/lockouts.ts';
import { hostFaults } from '../dns/host.ts';
import { automaticStops } from '../limits/set-stops.ts';
import type { OverviewDeps } from './deps.ts';
import {
  type Attention,
  backupAttention,
  certificateAttention,
  clockAttention,
  general,
  loopAttention,
  lostAttention,
  moveAttention,
  postmasterAttention,
  resolverAttention,
  spaceAttention,
  transferAttention,
  updateAttention,
} from './machine-attention.ts';

export interface Overview {
  host: string;
  version: string;
  startedAt: number;
  counts: { domains: number; mailboxes: number; queued: number; delayed: number; held: number };
  /** Findings of each kind by verdict, over all domains. */
  verdicts: Record<DomainSubject, Partial<Record<Verdict, number>>>;
  /** The newest and the oldest result of a check that is counted here. */
  checkedAt: number | null;
  oldestCheckAt: number | null;
  attention: Attention[];
  /** Sends of the last 24 hours by how they ended, hour by hour, oldest first. */
  outcomes: { hour: number; state: string; sends: number }[];
  /** All sends charged in the last 24 hours. */
  sends: number;
  busiest: { domain: string; sends: number; limit: number | null }[];
  /** Mail programs that are signed in, and who serves them. */
  access: { processes: number; imap: number; pop3: number; underWay: number };
}

const MOST_ATTENTION = 50;
const MOST_BUSY = 8;
/** From here on a limit is worth a word before it is reached, in percent. */
const NEAR = 80;
const RANK = { high: 0, medium: 1, low: 2 };

/** What an administrator wants to see first. */
export async function overview(context: OverviewDeps, startedAt: number): Promise<Overview> {
  const { db, clock, host, version, limits } = context;
  const since = clock.steady() - 24 * HOUR;
  const attention = [
    ...(await postmasterAttention(context)),
    ...spaceAttention(context),
    ...backupAttention(context.backups.state()),
    ...transferAttention(context),
    ...moveAttention(context),
    ...updateAttention(context),
    ...resolverAttention(context),
    ...clockAttention(context),
    ...lostAttention(context),
    ...(await certificateAttention(context)),
    ...loopAttention(context),
    ...(await stopAttention(context)),
    ...limitAttention(context),
    ...(await findingAttention(context)),
    ...(await queueAttention(context)),
    ...lockoutAttention(context),
  ];
  attention.sort((one, other) => RANK[one.harm] - RANK[other.harm]);
  const [domains, mailboxes, queued, delayed, checked, outcomes, busiest, verdicts] = await Promise.all([
    store.countDomains(db),
    store.countMailboxes(db),
    store.countWaiting(db),
    store.countDelayed(db),
    store.checkTimes(db),
    outcomesByHour(db, null, { since, before: clock.steady() }),
    store.busiestDomains(db, since, MOST_BUSY),
    store.verdictCounts(db),
  ]);
  return {
    host: host.name,
    version,
    startedAt,
    counts: { domains, mailboxes, queued, delayed, held: countHeld(db) },
    verdicts,
    checkedAt: checked.newest,
    oldestCheckAt: checked.oldest,
    attention: attention.slice(0, MOST_ATTENTION),
    outcomes,
    sends: limits.used({ kind: 'server', id: 0 }, 'day').sends,
    access: context.desk.load(),
    busiest: busiest.map(({ id, domain, sends }) => ({
      domain,
      sends,
      limit: limits.effective({ kind: 'domain', id }).find((one) => one.period === 'day' && one.quantity === 'sends')?.amount ?? null,
    })),
  };
}

/** Lost mail first, then mail that is not believed. */
function findingHarm(one: Finding): Attention['harm'] {
  if (one.verdict === 'weak' || one.verdict === 'unknown' || one.verdict === 'waiting') return 'low';
  return one.subject === 'mx' || one.subject === 'reverse' || one.subject === 'host' ? 'high' : 'medium';
}

async function findingAttention(context: OverviewDeps): Promise<Attention[]> {
  const { db } = context;
  const list: Attention[] = [];
  for (const { name, findings } of await store.worstChecks(db, MOST_ATTENTION)) {
    // Until it has moved here, its MX records lead where they should.
    const moves = findDomain(db, name)?.oldServer != null;
    const faults = leading(findings).filter((one) => one.verdict !== 'good' && !(moves && one.subject === 'mx'));
    const own = faults.filter((one) => one.subject !== 'reverse').sort((one, other) => RANK[findingHarm(one)] - RANK[findingHarm(other)]);
    const worst = own[0];
    if (worst) list.push({ harm: findingHarm(worst), kind: 'finding', domain: name, headline: worst.headline, also: own.length - 1 });
  }
  // Reverse DNS is the host's: one line for all domains.
  for (const one of hostFaults(context))
    list.unshift({ harm: findingHarm(one), kind: 'finding', domain: null, headline: one.headline, also: 0 });
  const unchecked = await store.countUnchecked(db);
  if (unchecked > 0)
    list.push(general('low', 'unchecked', `${unchecked} ${unchecked === 1 ? 'domain has' : 'domains have'} not been checked yet.`));
  return list;
}

/** Brakes, and senders that behave unlike themselves. A pause was set by hand: it is no trouble. */
async function stopAttention(context: OverviewDeps): Promise<Attention[]> {
  const stops = await automaticStops(context, MOST_ATTENTION);
  const stopped = stops.map(({ kind, name, figures, held }): Attention => {
    const what =
      kind === 'brake'
        ? `The brake is set on ${name}: ${figures['failed']} of ${figures['ended']} sends failed within an hour.`
        : `${name} is stopped: ${figures['sends']} sends in an hour, the usual is ${figures['usual']}.`;
    const waiting = held > 0 ? ` ${held} ${held === 1 ? 'recipient is' : 'recipients are'} held.` : '';
    return { harm: 'high', kind: 'stop', domain: domainSide(name), headline: what + waiting, also: 0 };
  });
  const flagged = listUnusual(context.db)
    .filter((one) => !stops.some((stop) => stop.name === one.mailbox))
    .map(
      (one): Attention => ({
        harm: 'medium',
        kind: 'unusual',
        domain: one.domain,
        headline: `${one.mailbox} sent ${one.sends} in one hour; the usual at that hour of the week is ${one.usual}.`,
        also: 0,
      }),
    );
  return [...stopped, ...flagged];
}

/** Limits of which 80 percent or more were used when they were last warned of, and still are. */
function limitAttention({ db, clock, limits }: OverviewDeps): Attention[] {
  const list: Attention[] = [];
  const seen = new Set<string>();
  for (const warning of recentWarnings(db, clock.steady() - 31 * 24 * HOUR, 4 * MOST_ATTENTION)) {
    const scope = { kind: warning.scope, id: warning.scopeId };
    const name = scopeName(db, scope);
    if (name === null || seen.has(scopeKey(scope))) continue;
    const tight = limits
      .uses(scope)
      .filter((one) => one.amount !== null && one.period !== 'minute' && one.used * 100 >= one.amount * NEAR)
      .sort((one, other) => other.used / Math.max(other.amount ?? 1, 1) - one.used / Math.max(one.amount ?? 1, 1))[0];
    if (!tight || tight.amount === null) continue;
    seen.add(scopeKey(scope));
    const full = tight.used >= tight.amount;
    const words = limitText({ ...tight, amount: tight.amount });
    const held = limits.choice(scope).choice.whenFull === 'hold';
    const whose = scope.kind === 'domain' ? '' : `${scope.kind === 'outlet' ? `The outlet “${name}”` : name}: `;
    list.push({
      harm: full && scope.kind !== 'outlet' && !held ? 'high' : 'medium',
      kind: 'limit',
      domain: scope.kind === 'domain' ? name : scope.kind === 'mailbox' ? domainSide(name) : null,
      headline: full
        ? `${whose}The limit of ${words} is reached; further mail ${scope.kind === 'outlet' ? 'takes another outlet or waits' : held ? 'waits' : 'is refused'} for now.`
        : `${whose}${tight.used} of ${words} are used.`,
      also: 0,
    });
  }
  return list.slice(0, MOST_ATTENTION);
}

async function queueAttention({ db, clock }: OverviewDeps): Promise<Attention[]> {
  const old = await store.countWaitingSince(db, clock.now() - HOUR);
  if (old === 0) return [];
  return [
    general(
      'medium',
      'queue',
      `${old} ${old === 1 ? 'recipient has' : 'recipients have'} been waiting in the queue for more than an hour.`,
    ),
  ];
}

/** Mailboxes of ours whose owners can't get in; names that nobody has are only guessed at. */
function lockoutAttention(context: OverviewDeps): Attention[] {
  const now = context.clock.now();
  return listLockouts(context)
    .filter((one) => one.domain !== null && one.of === 'account')
    .slice(0, MOST_ATTENTION)
    .map(({ name, domain, failures, until }) => {
      const minutes = Math.ceil((until - now) / 60_000);
      const wait = `${minutes} more ${minutes === 1 ? 'minute' : 'minutes'}`;
      return {
        harm: 'medium',
        kind: 'lockout',
        domain,
        headline: `${name}: after ${failures} wrong passwords, addresses that failed can’t try again for ${wait}.`,
        also: 0,
      };
    });
}
