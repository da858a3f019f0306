import { type DomainSubject, type Order, type Policy, type Role, SUBJECTS, type Verdict } from '../core/vocabulary.ts';
import { DOMAIN_FIELDS, type DomainSettings } from '../resources/domain.ts';
import type { Database } from './database.ts';
import { type Columns, fromColumns, toColumns } from './field-columns.ts';
import { type Page, type PageAsked, readPage } from './page.ts';
import type { Readable } from './read-database.ts';

export interface Domain extends DomainSettings {
  id: number;
  name: string;
  customer: string;
  plan: string;
  planId: number;
  role: Role;
  /** How far the domain is to go, or has come, with its own DMARC policy. */
  dmarcStage: Policy;
  /** The policy that the last checks saw, and since when. */
  dmarcSeen: Policy | null;
  dmarcSeenSince: number | null;
  /** The domain whose names all of its addresses mean. */
  twinOf: string | null;
  /** While its mail has not moved here yet: the server that it is passed on to, whatever its role; null otherwise. */
  oldServer: string | null;
  /** With the roles pass-on and standby: how many local parts exist on its own server; null asks that server. */
  recipientCount: number | null;
  recipientsSetAt: number | null;
  mostMailboxes: number;
  quotaBytes: number;
  createdAt: number;
}

/** A row of the list of domains. */
export interface DomainRow extends Domain, Record<DomainSubject, Verdict | null> {
  mailboxes: number;
  usedBytes: number;
  usedMessages: number;
  checkedAt: number | null;
  readiness: number | null;
}

const COLUMNS = `d.id, d.name, c.name AS customer, p.name AS plan, d.plan_id AS planId, d.role, d.judge,
  d.dmarc_stage AS dmarcStage, d.dmarc_seen AS dmarcSeen, d.dmarc_seen_since AS dmarcSeenSince,
  d.catch_all AS catchAll, (SELECT t.name FROM domain t WHERE t.id = d.twin_of) AS twinOf, d.most_bytes AS mostBytes, d.full_mailbox AS fullMailbox, d.mail_name AS mailName, d.is_sampled AS isSampled, d.primary_server AS primaryServer, d.old_server AS oldServer,
  d.recipient_count AS recipientCount, d.recipients_set_at AS recipientsSetAt, d.storage_bytes AS storageBytes, d.storage_messages AS storageMessages,
  p.most_mailboxes AS mostMailboxes, p.quota_bytes AS quotaBytes, d.created_at AS createdAt`;
const FROM = 'domain d JOIN customer c ON c.id = d.customer_id JOIN plan p ON p.id = d.plan_id';

const fromRow = <Row extends Domain>(row: Columns<Row>): Row => fromColumns<Row>(DOMAIN_FIELDS, row);

export const findDomain = (db: Readable, name: string): Domain | undefined =>
  db.all<Columns<Domain>>(`SELECT ${COLUMNS} FROM ${FROM} WHERE d.name = ?`, name).map(fromRow<Domain>)[0];
export const allDomainNames = (db: Database): string[] =>
  db.all<{ name: string }>('SELECT name FROM domain ORDER BY name').map((row) => row.name);
/** A domain whose mailboxes are here, one that does not take every local part if there is one. */
export const findHome = (db: Database): string | undefined =>
  db.one<{ name: string }>("SELECT name FROM domain WHERE role = 'home' ORDER BY catch_all IS NOT NULL, name LIMIT 1")?.name;

/** What the hot path needs of a domain, in one small look-up. */
export interface DomainFacts
  extends Pick<DomainSettings, 'judge' | 'catchAll' | 'mostBytes' | 'fullMailbox' | 'isSampled' | 'primaryServer'> {
  id: number;
  customerId: number | null;
  customer: string | null;
  role: Role;
  /** The role that its mail sees: it is passed on for as long as it has not moved here. */
  mailRole: Role;
  twinOf: string | null;
  /** For looking up: it may have a hundred thousand names. */
  recipientList: ReadonlySet<string> | null;
}
export const findDomainFacts = (db: Database, name: string) =>
  db.kept(`domain ${name}`, () => {
    const row = db.one<Columns<Omit<DomainFacts, 'recipientList'>> & { recipientList: string | null }>(
      `SELECT d.id, d.customer_id AS customerId, c.name AS customer, d.role, CASE WHEN d.old_server IS NULL THEN d.role ELSE 'pass-on' END AS mailRole, d.judge, t.name AS twinOf, d.catch_all AS catchAll, d.most_bytes AS mostBytes, d.full_mailbox AS fullMailbox, d.is_sampled AS isSampled, coalesce(d.old_server, d.primary_server) AS primaryServer, d.recipient_list AS recipientList
     FROM domain d JOIN customer c ON c.id = d.customer_id LEFT JOIN domain t ON t.id = d.twin_of WHERE d.name = ?`,
      name,
    );
    const list = row?.recipientList ?? null;
    const recipientList = list === null ? null : new Set(JSON.parse(list) as string[]);
    return row && { ...fromColumns<Omit<DomainFacts, 'recipientList'>>(DOMAIN_FIELDS, row), recipientList };
  });
/** Domains whose addresses mean those of this one. */
export const twinsOf = (db: Database, id: number): string[] =>
  db.all<{ name: string }>('SELECT name FROM domain WHERE twin_of = ? ORDER BY name', id).map((row) => row.name);
export const setTwin = (db: Database, id: number, of: number | null) => db.run('UPDATE domain SET twin_of = ? WHERE id = ?', of, id);

/** Passes a domain's mail on to that server until it has moved here; null: it stays here. */
export const setOldServer = (db: Database, id: number, server: string | null) =>
  db.run('UPDATE domain SET old_server = ? WHERE id = ?', server, id);

export const setDomainSettings = (db: Database, id: number, values: DomainSettings) =>
  db.run(
    `UPDATE domain SET primary_server = @primaryServer, catch_all = @catchAll, most_bytes = @mostBytes, storage_bytes = @storageBytes,
       storage_messages = @storageMessages, full_mailbox = @fullMailbox, mail_name = @mailName, is_sampled = @isSampled, judge = @judge
     WHERE id = @id`,
    { id, ...toColumns(DOMAIN_FIELDS, values) },
  );

/** Which local parts exist on a domain's own server; null where that server is asked. */
export function findRecipientList(db: Readable, id: number): string[] | null {
  const list = db.all<{ list: string | null }>('SELECT recipient_list AS list FROM domain WHERE id = ?', id)[0]?.list ?? null;
  return list === null ? null : (JSON.parse(list) as string[]);
}
export const setRecipientList = (db: Database, id: number, list: readonly string[] | null, now: number) =>
  db.run(
    'UPDATE domain SET recipient_list = ?, recipient_count = ?, recipients_set_at = ? WHERE id = ?',
    list && JSON.stringify(list),
    list?.length ?? null,
    list && now,
    id,
  );

/** What domains are searched by and put in order by. */
const LISTED = `domain d JOIN customer c ON c.id = d.customer_id JOIN domain_use u ON u.domain_id = d.id
  LEFT JOIN check_result r ON r.domain_id = d.id`;
const ROW = `SELECT ${COLUMNS}, (SELECT count(*) FROM mailbox m WHERE m.domain_id = d.id) AS mailboxes,
    u.bytes AS usedBytes, u.messages AS usedMessages,
    r.checked_at AS checkedAt, r.readiness, ${SUBJECTS.map((subject) => `r.${subject}`).join(', ')}
  FROM ${LISTED} JOIN plan p ON p.id = d.plan_id`;

export const findDomainRow = (db: Database, id: number): DomainRow | undefined =>
  db.all<Columns<DomainRow>>(`${ROW} WHERE d.id = ?`, id).map(fromRow<DomainRow>)[0];

const DOMAIN_ORDERS: Record<Order<'domains'>, readonly string[]> = {
  name: ['d.name'],
  customer: ['c.name', 'd.name'],
  readiness: ['coalesce(r.readiness, -1)', 'd.name'],
  mailboxes: ['(SELECT count(*) FROM mailbox m WHERE m.domain_id = d.id) DESC', 'd.name'],
  storage: ['u.bytes DESC', 'd.name'],
};

export interface DomainQuery extends PageAsked {
  customer: string | null;
  sort: Order<'domains'>;
}

export function listDomains(db: Database, query: DomainQuery): Page<DomainRow> {
  const isAll = query.search === '' && query.customer === null;
  // Rows are long: all of them are put in order by their numbers, and those of the page are read.
  const page = readPage<{ id: number }>(
    db,
    {
      columns: 'd.id',
      from: LISTED,
      counted: isAll ? 'domain' : 'domain d JOIN customer c ON c.id = d.customer_id',
      matches: isAll
        ? 'true'
        : `(@search = '' OR d.name LIKE @like ESCAPE '\\' OR c.name LIKE @like ESCAPE '\\') AND (@customer IS NULL OR c.name = @customer)`,
      values: { search: query.search, customer: query.customer },
      order: DOMAIN_ORDERS[query.sort],
    },
    query,
  );
  const ids = page.rows.map((one) => one.id);
  const found = db.all<Columns<DomainRow>>(`${ROW} WHERE d.id IN (SELECT value FROM json_each(?))`, JSON.stringify(ids));
  const byId = new Map(found.map((row) => [row.id, fromRow<DomainRow>(row)]));
  return { ...page, rows: ids.flatMap((id) => byId.get(id) ?? []) };
}

export interface NewDomain {
  name: string;
  customerId: number;
  planId: number;
  role: Role;
}

export function addDomain(db: Database, domain: NewDomain, now: number): number {
  return db.run(
    'INSERT INTO domain (id, name, customer_id, plan_id, role, created_at) VALUES (?, ?, ?, ?, ?, ?)',
    db.nextNumber('domain'),
    domain.name,
    domain.customerId,
    domain.planId,
    domain.role,
    now,
  ).id;
}

export function changeDomain(db: Database, id: number, values: Omit<NewDomain, 'name'>): void {
  db.run('UPDATE domain SET customer_id = ?, plan_id = ?, role = ? WHERE id = ?', values.customerId, values.planId, values.role, id);
}

export const setDmarcStage = (db: Database, id: number, stage: Policy) =>
  db.run('UPDATE domain SET dmarc_stage = ? WHERE id = ?', stage, id);
/** Notes the policy that is published now; the time stays as long as the policy does. */
export const seeDmarc = (db: Database, id: number, policy: Policy | null, at: number) =>
  db.run('UPDATE domain SET dmarc_seen = ?, dmarc_seen_since = ? WHERE id = ? AND dmarc_seen IS NOT ?', policy, at, id, policy);

export const removeDomain = (db: Database, id: number) => db.run('DELETE FROM domain WHERE id = ?', id);

/** Domains whose catch-all is an address, or any address of another domain (`@domain`). */
export const domainsCatchingTo = (db: Database, address: string) =>
  db.all<{ id: number; name: string; catchAll: string }>(
    `SELECT id, name, catch_all AS catchAll FROM domain
     WHERE catch_all = @address OR (substr(catch_all, instr(catch_all, '@')) = @address AND '@' || name <> @address) ORDER BY name`,
    { address },
  );
export const endCatchAll = (db: Database, domainId: number) => db.run('UPDATE domain SET catch_all = NULL WHERE id = ?', domainId);

/** The number of the newest domain that there ever was. */
export const newestDomain = (db: Readable): number =>
  db.one<{ last: number }>("SELECT last FROM number_given WHERE kind = 'domain'")?.last ?? 0;
