import { formatAddress, parseAddress } from '../../core/address/mailbox-address.ts';
import type { EventOf } from '../../core/journal/events.ts';
import * as store from '../../store/customers.ts';
import { addEntry } from '../../store/journeys.ts';
import { dropLimit, type LimitValue, limitsOf, setLimitValue } from '../../store/limits.ts';
import { noteRemoved } from '../../store/removed-scopes.ts';
import { badInput, Problem } from '../base/problem.ts';
import type { DirectoryDeps } from './deps.ts';

const LONGEST_NAME = 100;

const journal = ({ db, clock }: DirectoryDeps, what: EventOf): void =>
  addEntry(db, { at: clock.now(), journeyId: null, domain: null, ...what });

function cleanName(name: string, what: string): string {
  const clean = name.normalize('NFC').trim().replace(/\s+/g, ' ');
  if (clean === '') throw badInput('name', `The ${what}’s name is empty.`, 'Give it a name.');
  if (clean.length > LONGEST_NAME)
    throw badInput('name', `The ${what}’s name has more than ${LONGEST_NAME} characters.`, 'Choose a shorter one.');
  if (/[\p{Cc}\p{Cf}/]/u.test(clean))
    throw badInput('name', `The ${what}’s name contains a slash or a control character.`, 'Leave those out.');
  // In an address, dots alone mean a place and no name (RFC 3986 §5.2.4).
  if (/^\.+$/.test(clean)) throw badInput('name', `The ${what}’s name consists of dots.`, 'Give it a name with a letter or a digit.');
  return clean;
}

export function requireCustomer({ db }: DirectoryDeps, name: string, field: string | null = null): store.Customer {
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

export function requirePlan({ db }: DirectoryDeps, name: string, field: string | null = null): store.Plan {
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

export const listCustomers = ({ db }: DirectoryDeps, asked: Parameters<typeof store.listCustomers>[1]) => store.listCustomers(db, asked);

/** A customer that can be added: its name and contact are right, and nobody has the name. */
export interface NewCustomer {
  name: string;
  contact: string | null;
}

export function cleanCustomer({ db }: DirectoryDeps, name: string, contact: string | null): NewCustomer {
  const clean = cleanName(name, 'customer');
  const address = cleanContact(contact);
  if (store.findCustomer(db, clean))
    throw new Problem('exists-already', `A customer “${clean}” already exists.`, 'Use that one, or choose another name.', 'name');
  return { name: clean, contact: address };
}

/** Within a commit; returns its number. */
export function insertCustomer(context: DirectoryDeps, { name, contact }: NewCustomer): number {
  const { db, clock } = context;
  const id = store.addCustomer(db, name, clock.now());
  store.changeCustomer(db, id, name, contact);
  journal(context, { event: 'customer-added', data: { name, contact } });
  return id;
}

export async function addCustomer(context: DirectoryDeps, name: string, contact: string | null = null): Promise<store.Customer> {
  const { db } = context;
  const clean = cleanCustomer(context, name, contact);
  await db.commit(() => insertCustomer(context, cleanCustomer(context, name, contact)));
  return requireCustomer(context, clean.name);
}

export interface CustomerChanges {
  name?: string | undefined;
  contact?: string | null | undefined;
}

function cleanContact(contact: string | null): string | null {
  if (contact === null || contact.trim() === '') return null;
  const parsed = parseAddress(contact.trim());
  if (parsed.kind === 'invalid')
    throw badInput('contact', `“${contact.slice(0, 80)}” is not an address: ${parsed.reason}.`, 'Write it like ana@shop.example.');
  return formatAddress(parsed.address);
}

/** Renames a customer, or says where warnings about its domains go. */
export async function changeCustomer(context: DirectoryDeps, name: string, changes: CustomerChanges): Promise<store.Customer> {
  const { db } = context;
  const next = await db.commit(() => {
    const customer = requireCustomer(context, name);
    const clean = changes.name === undefined ? customer.name : cleanName(changes.name, 'customer');
    const other = store.findCustomer(db, clean);
    if (other && other.id !== customer.id)
      throw new Problem('exists-already', `A customer “${clean}” already exists.`, 'Choose another name.', 'name');
    const contact = changes.contact === undefined ? customer.contact : cleanContact(changes.contact);
    store.changeCustomer(db, customer.id, clean, contact);
    journal(context, { event: 'customer-changed', data: { before: customer.name, name: clean, contact } });
    return clean;
  });
  return requireCustomer(context, next);
}

export async function removeCustomer(context: DirectoryDeps, name: string): Promise<void> {
  await context.db.commit(() => {
    const customer = requireCustomer(context, name);
    if (customer.domains > 0)
      throw new Problem(
        'in-use',
        `The customer “${customer.name}” has ${customer.domains} ${customer.domains === 1 ? 'domain' : 'domains'}.`,
        'Remove the domains first, or move them to another customer.',
      );
    noteRemoved(context.db, { kind: 'customer', id: customer.id, name: customer.name, domain: null, at: context.clock.now() });
    store.removeCustomer(context.db, customer.id);
    journal(context, { event: 'customer-removed', data: { name: customer.name } });
  });
}

export interface PlanView extends store.Plan {
  /** What a domain, and each mailbox of it, may send, as long as nothing else was set for it. */
  limits: LimitValue[];
  mailboxLimits: LimitValue[];
}

const planView = (db: DirectoryDeps['db'], plan: store.Plan): PlanView => ({
  ...plan,
  limits: limitsOf(db, 'plan', plan.id),
  mailboxLimits: limitsOf(db, 'plan-mailbox', plan.id),
});

export const listPlans = ({ db }: DirectoryDeps): PlanView[] => store.listPlans(db).map((plan) => planView(db, plan));
export const showPlan = (context: DirectoryDeps, name: string): PlanView => planView(context.db, requirePlan(context, name));

type PlanLimits = { limits?: readonly LimitValue[] | undefined; mailboxLimits?: readonly LimitValue[] | undefined };

/** Limits that are named are set; null takes one away. */
function setPlanLimits({ db }: DirectoryDeps, planId: number, { limits, mailboxLimits }: PlanLimits): void {
  for (const [owner, values] of [
    ['plan', limits ?? []],
    ['plan-mailbox', mailboxLimits ?? []],
  ] as const)
    for (const value of values) {
      if (value.amount === null) dropLimit(db, owner, planId, value.period, value.quantity);
      else setLimitValue(db, owner, planId, value);
    }
}

export async function addPlan(
  context: DirectoryDeps,
  { limits, mailboxLimits, ...values }: store.PlanValues & PlanLimits,
): Promise<PlanView> {
  const clean = { ...values, name: cleanName(values.name, 'plan') };
  const { db, clock } = context;
  await db.commit(() => {
    if (store.findPlan(db, clean.name))
      throw new Problem('exists-already', `A plan “${clean.name}” already exists.`, 'Choose another name, or change that plan.', 'name');
    const id = store.addPlan(db, clean, clock.now());
    setPlanLimits(context, id, { limits, mailboxLimits });
    journal(context, { event: 'plan-added', data: { name: clean.name } });
  });
  return showPlan(context, clean.name);
}

/** Changes a plan; it counts at once for all that has no values of its own. */
export async function changePlan(
  context: DirectoryDeps,
  name: string,
  { limits, mailboxLimits, ...changes }: Partial<store.PlanValues> & PlanLimits,
): Promise<PlanView> {
  const { db } = context;
  const clean = changes.name === undefined ? {} : { name: cleanName(changes.name, 'plan') };
  const next = await db.commit(() => {
    const plan = requirePlan(context, name);
    const values = { ...plan, ...changes, ...clean };
    const other = store.findPlan(db, values.name);
    if (other && other.id !== plan.id)
      throw new Problem('exists-already', `A plan “${values.name}” already exists.`, 'Choose another name.', 'name');
    store.changePlan(db, plan.id, values);
    setPlanLimits(context, plan.id, { limits, mailboxLimits });
    const fields = [...Object.keys(changes), ...(limits?.length ? ['limits'] : []), ...(mailboxLimits?.length ? ['mailboxLimits'] : [])];
    journal(context, { event: 'plan-changed', data: { name: values.name, fields } });
    return values.name;
  });
  context.signals.emit('room');
  return showPlan(context, next);
}

export async function removePlan(context: DirectoryDeps, name: string): Promise<void> {
  await context.db.commit(() => {
    const plan = requirePlan(context, name);
    if (plan.domains > 0)
      throw new Problem(
        'in-use',
        `The plan “${plan.name}” is the plan of ${plan.domains} ${plan.domains === 1 ? 'domain' : 'domains'}.`,
        'Move those domains to another plan first.',
      );
    store.removePlan(context.db, plan.id);
    journal(context, { event: 'plan-removed', data: { name: plan.name } });
  });
}
