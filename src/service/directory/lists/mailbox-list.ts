import { breathe } from '../../../core/pieces.ts';
import { findDomain } from '../../../store/domains.ts';
import * as store from '../../../store/mailboxes.ts';
import { whyNotGiven } from '../../base/given-hashes.ts';
import { requireGoodPassword } from '../../base/secrets.ts';
import type { DirectoryDeps } from '../deps.ts';
import { asciiDomain } from '../domains.ts';
import { localAddress } from '../mailboxes.ts';
import { count } from '../removals.ts';
import type { ListedDomain } from './domain-list.ts';
import { A_TURN, type ListFault, readCsv, told } from './read-csv.ts';

/** One mailbox of a list, checked as far as that can be done without the others. */
export interface ListedMailbox {
  line: number;
  local: string;
  domain: string;
  name: string | null;
  quotaBytes: number | null;
  password: string | null;
  /** How the password is kept on another server. */
  hash: string | null;
  /** Names before the @, in the same domain. */
  aliases: string[];
}

const LIST = 'mailboxes';

/**
 * Reads a list of mailboxes: `address`, and maybe `name`, `quota` (2G), `password` or `hash` (as another server keeps it), `aliases` (names with spaces or
 * semicolons between them). Domains may come with it. Finds all faults that one line can have, and what stands in the way of all lines together.
 */
export async function readMailboxList(
  context: DirectoryDeps,
  csv: string,
  domains: readonly ListedDomain[],
): Promise<{ rows: ListedMailbox[]; faults: ListFault[] }> {
  const { rows, faults } = readCsv(csv, {
    list: LIST,
    columns: ['address', 'name', 'quota', 'password', 'hash', 'aliases'],
    mostRows: 10_000,
  });
  const coming = new Map(domains.map((one) => [one.name, one]));
  const read: ListedMailbox[] = [];
  const seen = new Map<string, number>();
  for (const [place, { line, values }] of rows.entries()) {
    if (place % A_TURN === A_TURN - 1) await breathe();
    const row = readRow(context, line, values, coming, (text) => faults.push({ list: LIST, line, text }));
    if (!row) continue;
    for (const local of [row.local, ...row.aliases]) {
      const address = `${local}@${row.domain}`;
      const before = seen.get(address);
      if (before !== undefined) faults.push({ list: LIST, line, text: `${address} is already in line ${before}.` });
      seen.set(address, line);
    }
    read.push(row);
  }
  faults.push(...(await takenFaults(context, read, coming)));
  return { rows: read, faults };
}

function readRow(
  { db }: DirectoryDeps,
  line: number,
  { address = '', name = '', quota = '', password = '', hash = '', aliases = '' }: Record<string, string>,
  coming: ReadonlyMap<string, ListedDomain>,
  fault: (text: string) => void,
): ListedMailbox | null {
  const place = told(() => localAddress(address), fault);
  if (!place) return null;
  const domain =
    told(
      () => asciiDomain(place.domain),
      () => {},
    ) ?? place.domain.toLowerCase();
  const role = coming.get(domain)?.role ?? findDomain(db, domain)?.role;
  if (role === undefined) fault(`The domain ${place.domain.slice(0, 80)} is not on this server.`);
  else if (role !== 'home') fault(`${place.domain} has the role ${role}: its mailboxes are elsewhere.`);
  if (name.length > 200 || /\p{Cc}/u.test(name)) fault('A name has at most 200 characters, and no control characters.');
  const quotaBytes = quota === '' ? null : sizeOf(quota);
  if (quotaBytes === undefined) fault(`“${quota.slice(0, 40)}” is not a size. Write it like 500M or 2G.`);
  if (password !== '' && hash !== '') fault('Give either a password or a hash.');
  else if (password !== '') told(() => requireGoodPassword(password), fault);
  const why = hash === '' ? null : whyNotGiven(hash);
  if (why !== null) fault(`The hash can’t be used: ${why}.`);
  const names = aliases.split(/[;\s]+/).filter((one) => one !== '');
  const own = names.flatMap((one) => told(() => localAddress(one.includes('@') ? one : `${one}@${place.domain}`), fault) ?? []);
  for (const one of own) if (one.domain !== place.domain) fault(`The alias ${one.local}@${one.domain} belongs to another domain.`);
  return {
    line,
    local: place.local,
    domain,
    name: name === '' ? null : name,
    quotaBytes: quotaBytes ?? null,
    password: password === '' ? null : password,
    hash: hash === '' ? null : hash,
    aliases: own.map((one) => one.local),
  };
}

/** What stands in the way of rows that are right by themselves: addresses that are taken, plans that are full. */
async function takenFaults(
  { db }: DirectoryDeps,
  rows: readonly ListedMailbox[],
  coming: ReadonlyMap<string, ListedDomain>,
): Promise<ListFault[]> {
  const faults: ListFault[] = [];
  const byDomain = new Map<string, ListedMailbox[]>();
  for (const [place, row] of rows.entries()) {
    if (place % A_TURN === A_TURN - 1) await breathe();
    const own = byDomain.get(row.domain);
    if (own) own.push(row);
    else byDomain.set(row.domain, [row]);
    for (const local of [row.local, ...row.aliases]) {
      const taken = store.lookUpMailbox(db, local, row.domain) ? 'a mailbox' : store.findAlias(db, local, row.domain) ? 'an alias' : null;
      if (taken) faults.push({ list: LIST, line: row.line, text: `${local}@${row.domain} is already ${taken}.` });
    }
  }
  for (const [name, some] of byDomain) {
    const domain = coming.get(name);
    const room = domain ? { has: 0, most: domain.mostMailboxes, plan: domain.plan } : store.roomForMailboxes(db, name);
    if (room && room.has + some.length > room.most)
      faults.push({
        list: LIST,
        line: some.at(-1)?.line ?? 1,
        text: `${name} has ${count(room.has, 'mailbox', 'mailboxes')}, and its plan “${room.plan}” allows ${room.most}: ${some.length} more are too many.`,
      });
  }
  return faults;
}

/** `500M`, `1.5G`, in octets; undefined for what is no size. */
function sizeOf(text: string): number | undefined {
  const found = /^(\d{1,12}(?:\.\d{1,3})?) ?([KMGT])(?:i?B)?$/i.exec(text);
  return found ? Math.round(Number(found[1]) * 1024 ** ('KMGT'.indexOf((found[2] ?? '').toUpperCase()) + 1)) : undefined;
}
