import { breathe } from '../core/pieces.ts';
import type { CertificateSource, NameLead } from '../core/vocabulary.ts';
import type { Database } from './database.ts';

/** A certificate that is kept here, its key sealed. */
export interface KeptCertificate {
  id: number;
  source: Extract<CertificateSource, 'added' | 'fetched'>;
  names: string[];
  chain: string;
  privateKey: string;
  isInOrder: boolean;
  since: number;
}
type Row = Omit<KeptCertificate, 'names' | 'isInOrder'> & { names: string; isInOrder: number };

const COLUMNS = 'id, source, names, chain, private_key AS privateKey, is_in_order AS isInOrder, since';
const read = (row: Row): KeptCertificate => ({ ...row, names: JSON.parse(row.names), isInOrder: row.isInOrder === 1 });

/** Names of certificates that somebody has added. */
export const addedNames = (db: Database): string[] =>
  db.all<{ names: string }>("SELECT names FROM certificate WHERE source = 'added'").flatMap((one) => JSON.parse(one.names) as string[]);
export const listCertificates = (db: Database): KeptCertificate[] =>
  db.all<Row>(`SELECT ${COLUMNS} FROM certificate ORDER BY id`).map(read);
export function findCertificate(db: Database, id: number): KeptCertificate | undefined {
  const row = db.one<Row>(`SELECT ${COLUMNS} FROM certificate WHERE id = ?`, id);
  return row && read(row);
}

export function addCertificate(db: Database, one: Omit<KeptCertificate, 'id'>): number {
  const id = db.nextNumber('certificate');
  db.run(
    'INSERT INTO certificate (id, source, names, chain, private_key, is_in_order, since) VALUES (?, ?, ?, ?, ?, ?, ?)',
    id,
    one.source,
    JSON.stringify(one.names),
    one.chain,
    one.privateKey,
    one.isInOrder ? 1 : 0,
    one.since,
  );
  return id;
}
export const removeCertificate = (db: Database, id: number) => db.run('DELETE FROM certificate WHERE id = ?', id);

const A_PAGE = 1000;

/** All rows, in the order of their names. Others have their turn between two pages. */
async function inPages<Row extends { name: string }>(read: (after: string, most: number) => Row[]): Promise<Row[]> {
  const all: Row[] = [];
  for (;;) {
    const some = read(all.at(-1)?.name ?? '', A_PAGE);
    all.push(...some);
    if (some.length < A_PAGE) return all;
    await breathe();
  }
}

/** A name that clients connect to. Times in ms. */
export interface CertificateName {
  name: string;
  domainId: number | null;
  leads: NameLead;
  lookedAt: number | null;
  renewAt: number | null;
  triedAt: number | null;
  nextAt: number | null;
  failures: number;
  trouble: string | null;
  troubleCode: 'certificate-failed' | 'certificate-caa' | null;
}
const NAME_COLUMNS = `name, domain_id AS domainId, leads, looked_at AS lookedAt, renew_at AS renewAt, tried_at AS triedAt, next_at AS nextAt, failures, trouble, trouble_code AS troubleCode`;

/** There are two for each domain: they are read a thousand in a turn. */
export const listCertificateNames = (db: Database): Promise<CertificateName[]> =>
  inPages((after, most) =>
    db.all<CertificateName>(`SELECT ${NAME_COLUMNS} FROM certificate_name WHERE name > ? ORDER BY name LIMIT ?`, after, most),
  );
/** What changes when a name's trouble comes, changes or goes. */
export const troublesOfNames = (db: Database): string =>
  db.one<{ state: string }>("SELECT concat_ws(' ', count(*), max(tried_at)) AS state FROM certificate_name WHERE trouble IS NOT NULL")
    ?.state ?? '';
export const findCertificateName = (db: Database, name: string) =>
  db.one<CertificateName>(`SELECT ${NAME_COLUMNS} FROM certificate_name WHERE name = ?`, name);

export function putCertificateName(db: Database, one: CertificateName): void {
  db.run(
    `INSERT INTO certificate_name (name, domain_id, leads, looked_at, renew_at, tried_at, next_at, failures, trouble, trouble_code) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
     ON CONFLICT (name) DO UPDATE SET domain_id = excluded.domain_id, leads = excluded.leads, looked_at = excluded.looked_at, renew_at = excluded.renew_at,
       tried_at = excluded.tried_at, next_at = excluded.next_at, failures = excluded.failures, trouble = excluded.trouble, trouble_code = excluded.trouble_code`,
    one.name,
    one.domainId,
    one.leads,
    one.lookedAt,
    one.renewAt,
    one.triedAt,
    one.nextAt,
    one.failures,
    one.trouble,
    one.troubleCode,
  );
}
export const removeCertificateName = (db: Database, name: string) => db.run('DELETE FROM certificate_name WHERE name = ?', name);

interface NamedDomain {
  id: number;
  name: string;
}
const WITH_MAIL_NAME = "SELECT id, name FROM domain WHERE role = 'home' AND mail_name = 'own' AND twin_of IS NULL";

/** Domains whose people connect to a name of their own. */
export const listDomainsWithMailNames = (db: Database): Promise<NamedDomain[]> =>
  inPages((after, most) => db.all<NamedDomain>(`${WITH_MAIL_NAME} AND name > ? ORDER BY name LIMIT ?`, after, most));
export const findDomainWithMailName = (db: Database, name: string) => db.one<NamedDomain>(`${WITH_MAIL_NAME} AND name = ?`, name);

/** This host’s account at an authority, its key sealed. */
export interface AuthorityAccount {
  directory: string;
  url: string;
  privateKey: string;
}
export const findAuthorityAccount = (db: Database, directory: string) =>
  db.one<AuthorityAccount>('SELECT directory, url, private_key AS privateKey FROM authority_account WHERE directory = ?', directory);
export const putAuthorityAccount = (db: Database, { directory, url, privateKey }: AuthorityAccount, now: number) =>
  db.run(
    `INSERT INTO authority_account (directory, url, private_key, since) VALUES (?, ?, ?, ?)
     ON CONFLICT (directory) DO UPDATE SET url = excluded.url, private_key = excluded.private_key`,
    directory,
    url,
    privateKey,
    now,
  );
