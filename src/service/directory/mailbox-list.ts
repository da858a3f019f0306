import { CsvError, parse } from 'csv-parse/sync';
import { breathe } from '../../core/pieces.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { Problem } from '../base/problem.ts';
import { requireGoodPassword } from '../base/secrets.ts';
import type { DirectoryDeps } from './deps.ts';
import { localAddress } from './mailboxes.ts';

/** One mailbox of a list, checked as far as that can be done without the database's other rows. */
export interface ListedMailbox {
  line: number;
  local: string;
  domain: string;
  quotaBytes: number | null;
  password: string | null;
  /** Names before the @, in the same domain. */
  aliases: string[];
}

export interface ListFault {
  line: number;
  text: string;
}

const COLUMNS = ['address', 'quota', 'password', 'aliases'];
/** As many as one list may hold. */
const MOST_ROWS = 10_000;
/** Rows that are looked at in one turn. */
export const A_TURN = 500;
/** What is told of at once: the rest is found when these are mended. */
export const MOST_FAULTS = 200;

/**
 * Reads a list of mailboxes (RFC 4180): a heading with `address`, and maybe `quota` (2G), `password`, `aliases` (names with spaces or semicolons between
 * them); then a line each. Finds all faults that one line can have.
 */
export async function readMailboxList(context: DirectoryDeps, csv: string): Promise<{ rows: ListedMailbox[]; faults: ListFault[] }> {
  let records: { record: Record<string, string>; info: { lines: number } }[];
  try {
    records = parse(csv, {
      columns: (names: string[]) => names.map((one) => one.trim().toLowerCase()),
      bom: true,
      trim: true,
      skip_empty_lines: true,
      info: true,
    });
  } catch (error) {
    if (!(error instanceof CsvError)) throw error;
    const line = Number((error as { lines?: number }).lines ?? 1);
    return { rows: [], faults: [{ line, text: `This is not CSV: ${error.message.replace(/ on line \d+.*$/, '')}.` }] };
  }
  const [first] = records;
  if (!first)
    return { rows: [], faults: [{ line: 1, text: 'The list is empty. Its first line names the columns: address,quota,password,aliases' }] };
  const unknown = Object.keys(first.record).filter((one) => !COLUMNS.includes(one));
  if (!('address' in first.record) || unknown.length > 0)
    return {
      rows: [],
      faults: [
        {
          line: 1,
          text:
            unknown.length > 0
              ? `There is no column “${unknown[0]?.slice(0, 40)}”; there are ${COLUMNS.join(', ')}.`
              : 'The column address is missing.',
        },
      ],
    };
  if (records.length > MOST_ROWS)
    return { rows: [], faults: [{ line: MOST_ROWS + 2, text: `A list has at most ${MOST_ROWS} mailboxes.` }] };
  const rows: ListedMailbox[] = [];
  const faults: ListFault[] = [];
  const seen = new Map<string, number>();
  for (const [place, { record, info }] of records.entries()) {
    if (place % A_TURN === A_TURN - 1) await breathe();
    const line = info.lines;
    const row = readRow(context, line, record, (text) => faults.push({ line, text }));
    if (!row) continue;
    for (const local of [row.local, ...row.aliases]) {
      const address = `${local}@${row.domain}`;
      const before = seen.get(address);
      if (before !== undefined) faults.push({ line, text: `${address} stands in line ${before} already.` });
      seen.set(address, line);
    }
    rows.push(row);
  }
  return { rows, faults };
}

function readRow(
  { db }: DirectoryDeps,
  line: number,
  { address = '', quota = '', password = '', aliases = '' }: Record<string, string>,
  fault: (text: string) => void,
): ListedMailbox | null {
  const told = <T>(read: () => T): T | null => {
    try {
      return read();
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      fault(error.detail);
      return null;
    }
  };
  const place = told(() => localAddress(address));
  if (!place) return null;
  const facts = findDomainFacts(db, place.domain.toLowerCase());
  if (!facts) fault(`The domain ${place.domain.slice(0, 80)} is not on this server.`);
  else if (facts.role !== 'home') fault(`${place.domain} has the role ${facts.role}: its mailboxes are elsewhere.`);
  const quotaBytes = quota === '' ? null : sizeOf(quota);
  if (quotaBytes === undefined) fault(`“${quota.slice(0, 40)}” is no size; write it like 500M or 2G.`);
  if (password !== '') told(() => requireGoodPassword(password));
  const names = aliases.split(/[;\s]+/).filter((one) => one !== '');
  const own = names.flatMap((name) => told(() => localAddress(name.includes('@') ? name : `${name}@${place.domain}`)) ?? []);
  for (const one of own) if (one.domain !== place.domain) fault(`The alias ${one.local}@${one.domain} is of another domain.`);
  return {
    line,
    local: place.local,
    domain: place.domain.toLowerCase(),
    quotaBytes: quotaBytes ?? null,
    password: password === '' ? null : password,
    aliases: own.map((one) => one.local),
  };
}

/** `500M`, `1.5G`, in octets; undefined for what is no size. */
function sizeOf(text: string): number | undefined {
  const found = /^(\d{1,12}(?:\.\d{1,3})?) ?([KMGT])(?:i?B)?$/i.exec(text);
  return found ? Math.round(Number(found[1]) * 1024 ** ('KMGT'.indexOf((found[2] ?? '').toUpperCase()) + 1)) : undefined;
}
