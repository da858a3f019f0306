import type { Database } from './database.ts';

export interface Customer {
  id: number;
  name: string;
  createdAt: number;
  domains: number;
}

export interface Plan {
  id: number;
  name: string;
  hourLimit: number | null;
  dayLimit: number | null;
  quotaBytes: number;
  mostMailboxes: number;
  domains: number;
}

const CUSTOMER = `SELECT id, name, created_at AS createdAt, (SELECT count(*) FROM domain WHERE customer_id = customer.id) AS domains FROM customer`;

export const listCustomers = (db: Database): Customer[] => db.all<Customer>(`${CUSTOMER} ORDER BY name`);
export const findCustomer = (db: Database, name: string) => db.one<Customer>(`${CUSTOMER} WHERE name = ?`, name);
export const addCustomer = (db: Database, name: string, now: number): number =>
  db.run('INSERT INTO customer (name, created_at) VALUES (?, ?)', name, now).id;
export const renameCustomer = (db: Database, id: number, name: string) => db.run('UPDATE customer SET name = ? WHERE id = ?', name, id);
export const removeCustomer = (db: Database, id: number) => db.run('DELETE FROM customer WHERE id = ?', id);

const PLAN = `SELECT id, name, hour_limit AS hourLimit, day_limit AS dayLimit, quota_bytes AS quotaBytes, most_mailboxes AS mostMailboxes,
  (SELECT count(*) FROM domain WHERE plan_id = plan.id) AS domains FROM plan`;

export type PlanValues = Omit<Plan, 'id' | 'domains'>;

export const listPlans = (db: Database): Plan[] => db.all<Plan>(`${PLAN} ORDER BY name`);
export const findPlan = (db: Database, name: string) => db.one<Plan>(`${PLAN} WHERE name = ?`, name);

export function addPlan(db: Database, values: PlanValues, now: number): void {
  db.run(
    'INSERT INTO plan (name, hour_limit, day_limit, quota_bytes, most_mailboxes, created_at) VALUES (?, ?, ?, ?, ?, ?)',
    values.name,
    values.hourLimit,
    values.dayLimit,
    values.quotaBytes,
    values.mostMailboxes,
    now,
  );
}

export function changePlan(db: Database, id: number, values: PlanValues): void {
  db.run(
    'UPDATE plan SET name = ?, hour_limit = ?, day_limit = ?, quota_bytes = ?, most_mailboxes = ? WHERE id = ?',
    values.name,
    values.hourLimit,
    values.dayLimit,
    values.quotaBytes,
    values.mostMailboxes,
    id,
  );
}

export const removePlan = (db: Database, id: number) => db.run('DELETE FROM plan WHERE id = ?', id);
