import { type Finding, SUBJECTS, type Subject, type Verdict } from '../core/checks/finding.ts';
import { HOUR } from '../core/limits/window.ts';
import { countQueue } from '../store/journeys.ts';
import type { ServiceContext } from './context.ts';

/** Something that needs attention. */
export interface Attention {
  harm: 'high' | 'middle' | 'low';
  kind: 'finding' | 'limit' | 'queue' | 'unchecked';
  domain: string | null;
  headline: string;
  /** More of the same domain, in fewer words. */
  also: number;
}

export interface Overview {
  host: string;
  version: string;
  startedAt: number;
  counts: { domains: number; mailboxes: number; queued: number; delayed: number };
  /** Findings of each kind by verdict, over all domains. */
  verdicts: Record<Subject, Partial<Record<Verdict, number>>>;
  checkedAt: number | null;
  attention: Attention[];
  /** Sends of the last 24 hours, hour by hour, oldest first. */
  hours: { hour: number; sends: number }[];
  busiest: { domain: string; sends: number; limit: number | null }[];
}

const MOST_ATTENTION = 50;
/** From here on a limit is worth a word before it is reached. */
const NEAR = 0.85;

/** What an administrator wants to see first. */
export function overview(context: ServiceContext, startedAt: number): Overview {
  const { db, clock, host, version } = context;
  const now = clock.now();
  const number = (sql: string): number => db.one<{ n: number }>(sql)?.n ?? 0;
  const verdicts = Object.fromEntries(
    SUBJECTS.map((subject) => [
      subject,
      Object.fromEntries(
        db
          .all<{ verdict: Verdict; n: number }>(
            `SELECT ${subject} AS verdict, count(*) AS n FROM check_result WHERE ${subject} IS NOT NULL GROUP BY 1`,
          )
          .map((row) => [row.verdict, row.n]),
      ),
    ]),
  ) as Overview['verdicts'];
  const since = clock.steady() - 24 * HOUR;
  const hours = db.all<{ hour: number; sends: number }>(
    'SELECT at / 3600000 * 3600000 AS hour, sum(sends) AS sends FROM ledger WHERE at > ? GROUP BY 1 ORDER BY 1',
    since,
  );
  const busiest = db.all<{ domain: string; sends: number; limit: number | null }>(
    `SELECT d.name AS domain, u.sends, d.day_limit AS "limit" FROM (SELECT domain_id, sum(sends) AS sends FROM ledger WHERE at > ? GROUP BY 1) u
     JOIN domain d ON d.id = u.domain_id ORDER BY u.sends DESC LIMIT 8`,
    since,
  );
  const attention = [...limitAttention(context), ...findingAttention(context), ...queueAttention(context, now)];
  const rank = { high: 0, middle: 1, low: 2 };
  attention.sort((one, other) => rank[one.harm] - rank[other.harm]);
  return {
    host: host.name,
    version,
    startedAt,
    counts: {
      domains: number('SELECT count(*) AS n FROM domain'),
      mailboxes: number('SELECT count(*) AS n FROM mailbox'),
      queued: countQueue(db),
      delayed: number(`SELECT count(*) AS n FROM recipient WHERE next_attempt_at IS NOT NULL AND state = 'delayed'`),
    },
    verdicts,
    checkedAt: db.one<{ at: number | null }>('SELECT max(checked_at) AS at FROM check_result')?.at ?? null,
    attention: attention.slice(0, MOST_ATTENTION),
    hours,
    busiest,
  };
}

/** Lost mail first, then mail that is not believed. */
function findingHarm(one: Finding): Attention['harm'] {
  if (one.verdict === 'weak' || one.verdict === 'unknown') return 'low';
  return one.subject === 'mx' || one.subject === 'reverse' ? 'high' : 'middle';
}

function findingAttention({ db }: ServiceContext): Attention[] {
  const rows = db.all<{ name: string; findings: string }>(
    'SELECT d.name, r.findings FROM check_result r JOIN domain d ON d.id = r.domain_id WHERE r.readiness IS NULL OR r.readiness < 100 ORDER BY coalesce(r.readiness, 101), d.name LIMIT ?',
    MOST_ATTENTION,
  );
  const rank = { high: 0, middle: 1, low: 2 };
  const list = rows.flatMap((row): Attention[] => {
    const faults = (JSON.parse(row.findings) as Finding[])
      .filter((one) => one.verdict !== 'good')
      .sort((one, other) => rank[findingHarm(one)] - rank[findingHarm(other)]);
    const worst = faults[0];
    return worst
      ? [{ harm: findingHarm(worst), kind: 'finding', domain: row.name, headline: worst.headline, also: faults.length - 1 }]
      : [];
  });
  const unchecked =
    db.one<{ n: number }>(
      `SELECT count(*) AS n FROM domain d WHERE d.role IN ('home', 'away') AND NOT EXISTS (SELECT 1 FROM check_result r WHERE r.domain_id = d.id)`,
    )?.n ?? 0;
  if (unchecked > 0)
    list.push({
      harm: 'low',
      kind: 'unchecked',
      domain: null,
      headline: `${unchecked} ${unchecked === 1 ? 'domain has' : 'domains have'} not been checked yet.`,
      also: 0,
    });
  return list;
}

function limitAttention({ db, clock, limits }: ServiceContext): Attention[] {
  const rows = db.all<{ id: number; name: string; hour: number | null; day: number | null }>(
    `SELECT d.id, d.name, d.hour_limit AS hour, d.day_limit AS day FROM (SELECT domain_id, sum(sends) AS day_sends, sum(CASE WHEN at > ? THEN sends END) AS hour_sends FROM ledger WHERE at > ? GROUP BY 1) u
     JOIN domain d ON d.id = u.domain_id WHERE u.day_sends >= d.day_limit * ${NEAR} OR u.hour_sends >= d.hour_limit * ${NEAR} LIMIT ?`,
    clock.steady() - HOUR,
    clock.steady() - 24 * HOUR,
    MOST_ATTENTION,
  );
  return rows.map((row) => {
    const usage = limits.usage(row.id, row);
    const parts = (['day', 'hour'] as const).filter((period) => usage[period].limit !== null);
    const tightest =
      parts.sort((one, other) => usage[other].used / (usage[other].limit || 1) - usage[one].used / (usage[one].limit || 1))[0] ?? 'day';
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

function queueAttention({ db }: ServiceContext, now: number): Attention[] {
  const old =
    db.one<{ n: number }>(
      `SELECT count(*) AS n FROM recipient r JOIN journey j ON j.id = r.journey_id WHERE r.next_attempt_at IS NOT NULL AND j.at < ?`,
      now - HOUR,
    )?.n ?? 0;
  return old === 0
    ? []
    : [
        {
          harm: 'middle',
          kind: 'queue',
          domain: null,
          headline: `${old} ${old === 1 ? 'recipient has' : 'recipients have'} been waiting in the queue for more than an hour.`,
          also: 0,
        },
      ];
}
