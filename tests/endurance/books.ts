import { Database } from '../../src/store/database.ts';
import type { Diary } from './honest.ts';

export interface Expected {
  diary: Diary;
  /** What the outside server took, by recipient. */
  taken: ReadonlyMap<string, number>;
  openDomain: string;
  /** Domains here whose mail is fetched. */
  home: ReadonlySet<string>;
  /** The most sends of an hour, by domain. */
  limits: Readonly<Record<string, number>>;
}

export interface Figures {
  recipients: number;
  relayed: number;
  held: number;
  waiting: number;
  charged: number;
  ledger: number;
  /** Messages that the outside server has more than once, because its answer never arrived. */
  twice: number;
}

interface Row {
  subject: string;
  address: string;
  state: string;
  due: number | null;
  held: string | null;
  charged: number;
}

const HOUR = 3_600_000;
const SHOWN = 5;

/** Compares the database with what clients and servers outside have seen. Returns what is wrong, in sentences. */
export function examine(folder: string, { diary, taken, openDomain, home, limits }: Expected): { wrong: string[]; figures: Figures } {
  const db = Database.open(folder);
  const wrong = [...diary.wrong];
  /** One sentence for many of a kind. */
  const some = (what: string, which: string[]): void => {
    if (which.length > 0) wrong.push(`${which.length} ${what}: ${which.slice(0, SHOWN).join(', ')}`);
  };
  try {
    const sound = db.one<{ integrity_check: string }>('PRAGMA integrity_check')?.integrity_check;
    if (sound !== 'ok') wrong.push(`the database is damaged: ${sound}`);
    const rows = db.all<Row>(
      `SELECT j.subject, r.address, r.state, r.next_attempt_at AS due, r.held, r.charged
       FROM recipient r JOIN journey j ON j.id = r.journey_id WHERE j.kind = 'submitted'`,
    );
    const byMessage = grouped(rows);

    // Acknowledged ⇒ there, for exactly the recipients that were taken; not acknowledged ⇒ at most that.
    const addresses = (name: string): string =>
      (byMessage.get(name) ?? [])
        .map((row) => row.address)
        .sort()
        .join(' ');
    const wanted = (name: string): string => [...(diary.sent.get(name)?.to ?? [])].sort().join(' ');
    some(
      'acknowledged messages are not as they were taken',
      [...diary.acknowledged].filter((name) => addresses(name) !== wanted(name)),
    );
    some(
      'messages have other recipients than were asked for',
      [...byMessage.keys()].filter((name) => addresses(name) !== wanted(name)),
    );
    const isHome = (address: string): boolean => home.has(address.slice(address.lastIndexOf('@') + 1));
    some(
      'messages for mailboxes here were acknowledged and never fetched',
      [...diary.acknowledged].filter((name) => diary.sent.get(name)?.to.some(isHome) && !diary.fetched.has(name)),
    );

    // Left ⇒ taken, and charged once; waits ⇔ has not ended; waits for room ⇒ not charged.
    const out = rows.filter((row) => !isHome(row.address));
    const reached = out.filter((row) => row.address.endsWith(`@${openDomain}`));
    some(
      'are written down as relayed and were never taken',
      reached.filter((row) => row.state === 'relayed' && !taken.has(row.address)).map(of),
    );
    some('were taken and are not written down so', reached.filter((row) => taken.has(row.address) && row.state !== 'relayed').map(of));
    some('were taken and not charged', reached.filter((row) => taken.has(row.address) && row.charged !== 1).map(of));
    some('were neither taken nor held', reached.filter((row) => !taken.has(row.address) && row.held === null).map(of));
    some(
      'wait although they have ended, or have ended and wait',
      out.filter((row) => (row.due === null) !== (row.state === 'relayed' || row.state === 'failed')).map(of),
    );
    some('wait for room and are charged', out.filter((row) => row.held === 'limit' && row.charged !== 0).map(of));
    const known = new Set(reached.map((row) => row.address));
    some(
      'were taken and nobody sent them',
      [...taken.keys()].filter((one) => one.endsWith(`@${openDomain}`) && /^\w+-\d+@/.test(one) && !known.has(one)),
    );

    const charged = rows.filter((row) => row.charged === 1).length;
    const charges = db.all<{ at: number; domain: string; sends: number }>('SELECT at, domain, sends FROM ledger ORDER BY at');
    const ledger = charges.reduce((sum, one) => sum + one.sends, 0);
    if (ledger !== charged) wrong.push(`the ledger has ${ledger} sends, and ${charged} recipients are charged`);
    for (const [domain, most] of Object.entries(limits)) {
      const worst = fullestHour(charges.filter((one) => one.domain === domain));
      if (worst > most) wrong.push(`${domain} sent ${worst} in an hour; its limit is ${most}`);
    }
    return {
      wrong,
      figures: {
        recipients: rows.length,
        relayed: rows.filter((row) => row.state === 'relayed').length,
        held: rows.filter((row) => row.held === 'limit').length,
        waiting: rows.filter((row) => row.due !== null && row.held === null).length,
        charged,
        ledger,
        twice: [...taken.values()].reduce((sum, times) => sum + times - 1, 0),
      },
    };
  } finally {
    db.close();
  }
}

const of = (row: Row): string =>
  `${row.address} (${row.state}${row.held === null ? '' : `, held for ${row.held}`}, charged ${row.charged})`;

function grouped(rows: Row[]): Map<string, Row[]> {
  const groups = new Map<string, Row[]>();
  for (const row of rows) groups.set(row.subject, [...(groups.get(row.subject) ?? []), row]);
  return groups;
}

/** The most sends in any sixty minutes; charges in the order of time. */
function fullestHour(charges: readonly { at: number; sends: number }[]): number {
  let [first, sum, most] = [0, 0, 0];
  for (const { at, sends } of charges) {
    sum += sends;
    while ((charges[first]?.at ?? at) <= at - HOUR) {
      sum -= charges[first]?.sends ?? 0;
      first += 1;
    }
    most = Math.max(most, sum);
  }
  return most;
}
