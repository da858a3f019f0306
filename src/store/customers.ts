import type { Order } from '../core/vocabulary.ts';
import { PLAN_FIELDS, type PlanSettings } from '../resources/plan.ts';
import type { Database } from './database.ts';
import { type Columns, fromColumns, toColumns } from './field-columns.ts';
import { type PageAsked, readPage } from './page.ts';

export interface Customer {
  id: number;
  name: string;
  /** Where warnings about its domains go by mail. */
  contact: string | null;
  createdAt: number;
  domains: number;
}

export interface Plan extends PlanSettings {
  id: number;
  name: string;
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

export type PlanValues = PlanSettings & { name: string };

const planOf = (row: Columns<Plan>): Plan => fromColumns<Plan>(PLAN_FIELDS, row);

export const listPlans = (db: Database): Plan[] => db.all<Columns<Plan>>(`${PLAN} ORDER BY name`).map(planOf);
export const findPlan = (db: Database, name: string): Plan | undefined =>
  db.all<Columns<Plan>>(`${PLAN} WHERE name = ?`, name).map(planOf)[0];

export const addPlan = (db: Database, values: PlanValues, now: number): number =>
  db.run(
    `INSERT INTO plan (id, name, quota_bytes, most_mailboxes, when_full, hold_most, hold_hours, unusual, brake_share, brake_least, index_texts, created_at)
     VALUES (@id, @name, @quotaBytes, @mostMailboxes, @whenFull, @holdMost, @holdHours, @unusual, @brakeShare, @brakeLeast, @indexTexts, @now)`,
    { id: db.nextNumber('plan'), now, name: values.name, ...toColumns(PLAN_FIELDS, values) },
  ).id;

export function changePlan(db: Database, id: number, values: PlanValues): void {
  db.run(
    `UPDATE plan SET name = @name, quota_bytes = @quotaBytes, most_mailboxes = @mostMailboxes, when_full = @whenFull, hold_most = @holdMost,
       hold_hours = @holdHours, unusual = @unusual, brake_share = @brakeShare, brake_least = @brakeLeast, index_texts = @indexTexts WHERE id = @id`,
    { id, name: values.name, ...toColumns(PLAN_FIELDS, values) },
  );
}

export const removePlan = (db: Database, id: number) => db.run('DELETE FROM plan WHERE id = ?', id);
