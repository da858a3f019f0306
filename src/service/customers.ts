import * as store from '../store/customers.ts';
import type { ServiceContext } from './context.ts';
import { badInput, Problem } from './problem.ts';

const LONGEST_NAME = 100;

function cleanName(name: string, what: string): string {
  const clean = name.normalize('NFC').trim().replace(/\s+/g, ' ');
  if (clean === '') throw badInput('name', `The ${what}’s name is empty.`, 'Give it a name.');
  if (clean.length > LONGEST_NAME)
    throw badInput('name', `The ${what}’s name has more than ${LONGEST_NAME} characters.`, 'Choose a shorter one.');
  if (/[\p{Cc}\p{Cf}/]/u.test(clean))
    throw badInput('name', `The ${what}’s name holds a slash or a control character.`, 'Leave those out.');
  return clean;
}

export function requireCustomer({ db }: ServiceContext, name: string, field: string | null = null): store.Customer {
  const customer = store.findCustomer(db, name);
  if (!customer)
    throw new Problem(
      'not-found',
      `There is no customer “${name}”.`,
      'List the customers (tenedor customer list), or add this one first (tenedor customer add NAME).',
      field,
    );
  return customer;
}

export function requirePlan({ db }: ServiceContext, name: string, field: string | null = null): store.Plan {
  const plan = store.findPlan(db, name);
  if (!plan)
    throw new Problem(
      'not-found',
      `There is no plan “${name}”.`,
      'List the plans (tenedor plan list), or add this one first (tenedor plan add NAME).',
      field,
    );
  return plan;
}

export const listCustomers = ({ db }: ServiceContext) => store.listCustomers(db);

export async function addCustomer(context: ServiceContext, name: string): Promise<store.Customer> {
  const clean = cleanName(name, 'customer');
  const { db, clock } = context;
  await db.commit(() => {
    if (store.findCustomer(db, clean))
      throw new Problem('exists-already', `There is a customer “${clean}” already.`, 'Use that one, or choose another name.', 'name');
    store.addCustomer(db, clean, clock.now());
  });
  return requireCustomer(context, clean);
}

export async function renameCustomer(context: ServiceContext, name: string, next: string): Promise<store.Customer> {
  const clean = cleanName(next, 'customer');
  const { db } = context;
  await db.commit(() => {
    const customer = requireCustomer(context, name);
    const other = store.findCustomer(db, clean);
    if (other && other.id !== customer.id)
      throw new Problem('exists-already', `There is a customer “${clean}” already.`, 'Choose another name.', 'name');
    store.renameCustomer(db, customer.id, clean);
  });
  return requireCustomer(context, clean);
}

export async function removeCustomer(context: ServiceContext, name: string): Promise<void> {
  await context.db.commit(() => {
    const customer = requireCustomer(context, name);
    if (customer.domains > 0)
      throw new Problem(
        'in-use',
        `The customer “${customer.name}” has ${customer.domains} ${customer.domains === 1 ? 'domain' : 'domains'}.`,
        'Remove the domains first, or give them to another customer.',
      );
    store.removeCustomer(context.db, customer.id);
  });
}

export const listPlans = ({ db }: ServiceContext) => store.listPlans(db);

export async function addPlan(context: ServiceContext, values: store.PlanValues): Promise<store.Plan> {
  const clean = { ...values, name: cleanName(values.name, 'plan') };
  const { db, clock } = context;
  await db.commit(() => {
    if (store.findPlan(db, clean.name))
      throw new Problem('exists-already', `There is a plan “${clean.name}” already.`, 'Choose another name, or change that plan.', 'name');
    store.addPlan(db, clean, clock.now());
  });
  return requirePlan(context, clean.name);
}

/** Changes a plan. Domains keep the limits they started with; quota and number of mailboxes apply to new mailboxes at once. */
export async function changePlan(context: ServiceContext, name: string, changes: Partial<store.PlanValues>): Promise<store.Plan> {
  const { db } = context;
  const clean = changes.name === undefined ? {} : { name: cleanName(changes.name, 'plan') };
  const next = await db.commit(() => {
    const plan = requirePlan(context, name);
    const values = { ...plan, ...changes, ...clean };
    const other = store.findPlan(db, values.name);
    if (other && other.id !== plan.id)
      throw new Problem('exists-already', `There is a plan “${values.name}” already.`, 'Choose another name.', 'name');
    store.changePlan(db, plan.id, values);
    return values.name;
  });
  return requirePlan(context, next);
}

export async function removePlan(context: ServiceContext, name: string): Promise<void> {
  await context.db.commit(() => {
    const plan = requirePlan(context, name);
    if (plan.domains > 0)
      throw new Problem(
        'in-use',
        `The plan “${plan.name}” is the plan of ${plan.domains} ${plan.domains === 1 ? 'domain' : 'domains'}.`,
        'Give those domains another plan first.',
      );
    store.removePlan(context.db, plan.id);
  });
}
