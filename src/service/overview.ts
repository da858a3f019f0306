import { type Finding, leading, SUBJECTS, type Verdict } from '../core/checks/finding.ts';
import { HOUR } from '../core/limits/window.ts';
import { countQueue } from '../store/journeys.ts';
import * as store from '../store/overview.ts';
import type { ServiceContext } from './context.ts';
import { hostFaults } from './host.ts';
import { postmasterIsReached } from './routing.ts';

/** Something that needs attention; without a domain it concerns the host or all of them. */
export interface Attention {
  harm: 'high' | 'middle' | 'low';
  kind: 'finding' | 'limit' | 'queue' | 'unchecked';
  domain: string | null;
  headline: string;
  /** How many more findings the same domain has. */
  also: number;
}

export interface Overview {
  host: string;
  version: string;
  startedAt: number;
  counts: { domains: number; mailboxes: number; queued: number; delayed: number };
  /** Findings of each kind by verdict, over all domains. */
  verdicts: Record<(typeof SUBJECTS)[number], Partial<Record<Verdict, number>>>;
  /** The newest and the oldest result of a check that is counted here. */
  checkedAt: number | null;
  oldestCheckAt: number | null;
  attention: Attention[];
  /** Sends of the last 24 hours, hour by hour, oldest first. */
  hours: { hour: number; sends: number }[];
  busiest: { domain: string; sends: number; limit: number | null }[];
}

const MOST_ATTENTION = 50;
const MOST_BUSY = 8;
/** From here on a limit is worth a word before it is reached. */
const NEAR = 0.85;
const RANK = { high: 0, middle: 1, low: 2 };

/** What an administrator wants to see first. */
export function overview(context: ServiceContext, startedAt: number): Overview {
  const { db, clock, host, version } = context;
  const since = clock.steady() - 24 * HOUR;
  const attention = [...postmasterAttention(context), ...limitAttention(context), ...findingAttention(context), ...queueAttention(context)];
  attention.sort((one, other) => RANK[one.harm] - RANK[other.harm]);
  return {
    host: host.name,
    version,
    startedAt,
    counts: {
      domains: store.countDomains(db),
      mailboxes: store.countMailboxes(db),
      queued: countQueue(db),
      delayed: store.countDelayed(db),
    },
    verdicts: Object.fromEntries(SUBJECTS.map((subject) => [subject, store.verdictCounts(db, subject)])) as Overview['verdicts'],
    checkedAt: store.newestCheck(db),
    oldestCheckAt: store.oldestCheck(db),
    attention: attention.slice(0, MOST_ATTENTION),
    hours: store.allHourlySends(db, since),
    busiest: store.busiestDomains(db, since, MOST_BUSY),
  };
}

function postmasterAttention(context: ServiceContext): Attention[] {
  if (postmasterIsReached(context)) return [];
  return [
    general('high', 'finding', `Mail to postmaster and abuse reaches nobody: ${context.host.postmaster} takes no mail. Add that mailbox.`),
  ];
}

/** Lost mail first, then mail that is not believed. */
function findingHarm(one: Finding): Attention['harm'] {
  if (one.verdict === 'weak' || one.verdict === 'unknown' || one.verdict === 'waiting') return 'low';
  return one.subject === 'mx' || one.subject === 'reverse' || one.subject === 'host' ? 'high' : 'middle';
}

function findingAttention(context: ServiceContext): Attention[] {
  const { db } = context;
  const list: Attention[] = [];
  for (const { name, findings } of store.worstChecks(db, MOST_ATTENTION)) {
    const faults = leading(findings).filter((one) => one.verdict !== 'good');
    const own = faults.filter((one) => one.subject !== 'reverse').sort((one, other) => RANK[findingHarm(one)] - RANK[findingHarm(other)]);
    const worst = own[0];
    if (worst) list.push({ harm: findingHarm(worst), kind: 'finding', domain: name, headline: worst.headline, also: own.length - 1 });
  }
  // Reverse DNS is the host's: one line for all domains.
  for (const one of hostFaults(context))
    list.unshift({ harm: findingHarm(one), kind: 'finding', domain: null, headline: one.headline, also: 0 });
  const unchecked = store.countUnchecked(db);
  if (unchecked > 0)
    list.push(general('low', 'unchecked', `${unchecked} ${unchecked === 1 ? 'domain has' : 'domains have'} not been checked yet.`));
  return list;
}

function limitAttention({ db, clock, limits }: ServiceContext): Attention[] {
  const now = clock.steady();
  return store.domainsNearLimit(db, now - HOUR, now - 24 * HOUR, NEAR, MOST_ATTENTION).map((row) => {
    const usage = limits.usage(row.id, row);
    const share = (period: 'hour' | 'day'): number =>
      usage[period].limit === null ? 0 : usage[period].used / Math.max(usage[period].limit, 1);
    const tightest = share('hour') > share('day') ? 'hour' : 'day';
    const { used, limit } = usage[tightest];
    const full = limit !== null && used >= limit;
    return {
      harm: full ? 'high' : 'middle',
      kind: 'limit',
      domain: row.name,
      headline: full
        ? `The limit of ${limit} sends per ${tightest} is reached; more is refused for now.`
        : `${used} of ${limit} sends per ${tightest} are used.`,
      also: 0,
    };
  });
}

function queueAttention({ db, clock }: ServiceContext): Attention[] {
  const old = store.countWaitingSince(db, clock.now() - HOUR);
  if (old === 0) return [];
  return [
    general(
      'middle',
      'queue',
      `${old} ${old === 1 ? 'recipient has' : 'recipients have'} been waiting in the queue for more than an hour.`,
    ),
  ];
}

const general = (harm: Attention['harm'], kind: Attention['kind'], headline: string): Attention => ({
  harm,
  kind,
  domain: null,
  headline,
  also: 0,
});
