import type { Order } from '../core/vocabulary.ts';
import type { Database } from './database.ts';
import { type PageAsked, readPage } from './page.ts';

export interface Customer {
  id: number;
  name: string;
  /** Where warnings about its domains go by mail. */
  contact: string | null;
  createdAt: number;
  domains: number;
}

export interface Plan {
  id: number;
  name: string;
  quotaBytes: number;
  mostMailboxes: number;
  whenFull: 'refuse' | 'hold';
  holdMost: number;
  holdHours: number;
  /** What follows when a mailbox sends far more than it usually does. */
  unusual: 'off' | 'flag' | 'stop';
  /** Percent of final failures within an hour that set the brake, null for never; and out of how many ended sends at least. */
  brakeShare: number | null;
  brakeLeast: number;
  /** Whether searches in the texts of large folders go by an index, beside those in their usual fields. */
  indexTexts: boolean;
  domains: number;
}

const CUSTOMER_COLUMNS =
  'id, name, contact, created_at AS createdAt, (SELECT count(*) FROM domain WHERE customer_id = customer.id) AS domains';
const CUSTOMER = `SELECT ${CUSTOMER_COLUMNS} FROM customer`;

const CUSTOMER_ORDERS: Record<Order<'customers'>, readonly string[]> = {
  name: ['name COLLATE NOCASE'],
  domains: ['(SELECT count(*) FROM domain WHERE customer_id = customer.id) DESC', 'name'],
  since: ['created_at DESC', 'name'],
};

export const listCustomers = (db: Database, asked: PageAsked & { sort: Order<'customers'> }) =>
  readPage<Customer>(
    db,
    {
      columns: CUSTOMER_COLUMNS,
      from: 'customer',
      matches: `(name LIKE @like ESCAPE '\\' OR contact LIKE @like ESCAPE '\\')`,
      values: {},
      order: CUSTOMER_ORDERS[asked.sort],
    },
    asked,
  );
export const findCustomer = (db: Database, name: string) => db.one<Customer>(`${CUSTOMER} WHERE name = ?`, name);
export const addCustomer = (db: Database, name: string, now: number): number =>
  db.run('INSERT INTO customer (id, name, created_at) VALUES (?, ?, ?)', db.nextNumber('customer'), name, now).id;
export const changeCustomer = (db: Database, id: number, name: string, contact: string | null) =>
  db.run('UPDATE customer SET name = ?, contact = ? WHERE id = ?', name, contact, id);
export const removeCustomer = (db: Database, id: number) => db.run('DELETE FROM customer WHERE id = ?', id);

const PLAN = `SELECT id, name, quota_bytes AS quotaBytes, most_mailboxes AS mostMailboxes, when_full AS whenFull, hold_most AS holdMost,
  hold_hours AS holdHours, unusual, brake_share AS brakeShare, brake_least AS brakeLeast, index_texts AS indexTexts,
  (SELECT count(*) FROM domain WHERE plan_id = plan.id) AS domains FROM plan`;

export type PlanValues = Omit<Plan, 'id' | 'domains'>;

type KeptPlan = Omit<Plan, 'indexTexts'> & { indexTexts: 0 | 1 };
const planOf = (row: KeptPlan): Plan => ({ ...row, indexTexts: row.indexTexts === 1 });

export const listPlans = (db: Database): Plan[] => db.all<KeptPlan>(`${PLAN} ORDER BY name`).map(planOf);
export const findPlan = (db: Database, name: string): Plan | undefined => db.all<KeptPlan>(`${PLAN} WHERE name = ?`, name).map(planOf)[0];

export function addPlan(db: Database, values: PlanValues, now: number): number {
  return db.run(
    `INSERT INTO plan (id, name, quota_bytes, most_mailboxes, when_full, hold_most, hold_hours, unusual, brake_share, brake_least, index_texts, created_at)
     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
    db.nextNumber('plan'),
    values.name,
    values.quotaBytes,
    values.mostMailboxes,
    values.whenFull,
    values.holdMost,
    values.holdHours,
    values.unusual,
    values.brakeShare,
    values.brakeLeast,
    Number(values.indexTexts),
    now,
  ).id;
}

export function changePlan(db: Database, id: number, values: PlanValues): void {
  db.run(
    `UPDATE plan SET name = ?, quota_bytes = ?, most_mailboxes = ?, when_full = ?, hold_most = ?, hold_hours = ?, unusual = ?,
       brake_share = ?, brake_least = ?, index_texts = ? WHERE id = ?`,
    values.name,
    values.quotaBytes,
    values.mostMailboxes,
    values.whenFull,
    values.holdMost,
    values.holdHours,
    values.unusual,
    values.brakeShare,
    values.brakeLeast,
    Number(values.indexTexts),
    id,
  );
}

export const removePlan = (db: Database, id: number) => db.run('DELETE FROM plan WHERE id = ?', id);
