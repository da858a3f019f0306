import { domainToUnicode } from 'node:url';
import { parseDomain } from '../core/address/domain.ts';
import type { Policy } from '../core/dmarc/record.ts';
import type { Role } from '../core/routing/recipients.ts';
import { forgetCheck, hurryCheck } from '../store/checks.ts';
import * as store from '../store/domains.ts';
import { addEntry } from '../store/journeys.ts';
import { addKey } from '../store/keys.ts';
import { aliasesLeadingTo, listAliases, listMailboxes, removeAlias, setTargets } from '../store/mailboxes.ts';
import type { ServiceContext } from './context.ts';
import { requireCustomer, requirePlan } from './customers.ts';
import type { Usage } from './limits.ts';
import { badInput, Problem } from './problem.ts';
import { newKeyPair, newSelector } from './signing-keys.ts';

export interface DomainView extends store.DomainRow {
  /** As people write it. */
  display: string;
  usage: Usage;
}

export function asciiDomain(name: string, field: string | null = 'name'): string {
  const parsed = parseDomain(name);
  if (parsed.kind === 'invalid')
    throw new Problem('bad-input', `“${name.slice(0, 80)}” is no domain name: ${parsed.reason}.`, 'Write it like shop.example.', field);
  return parsed.ascii;
}

export function requireDomain({ db }: ServiceContext, name: string): store.Domain {
  const ascii = asciiDomain(name, null);
  const domain = store.findDomain(db, ascii);
  if (!domain)
    throw new Problem(
      'not-found',
      `The domain ${ascii} is not on this server.`,
      'Look for a typing error, list the domains (tenedor domain list), or take it on (tenedor domain add).',
    );
  return domain;
}

/** For what only makes sense where the mailboxes live here. */
export function requireHome(domain: store.Domain): void {
  if (domain.role === 'away')
    throw new Problem(
      'not-yet',
      `${domain.name} has the role away: its mailboxes are on another server.`,
      'Give it the role home first, if its mail is to live here.',
    );
  if (domain.role !== 'home')
    throw new Problem(
      'not-yet',
      `${domain.name} has the role ${domain.role}, which is stored but not served yet.`,
      'Give it the role home, if its mailboxes are to live here.',
    );
}

export interface NewDomain {
  name: string;
  customer: string;
  plan: string;
  role: Role;
}

/** Takes a domain on: checks the name, makes its DKIM key, starts it with its plan's limits. */
export async function addDomain(context: ServiceContext, input: NewDomain): Promise<DomainView> {
  const { db, clock, host } = context;
  const name = asciiDomain(input.name);
  if (name === host.name)
    throw badInput(
      'name',
      `${name} is this host’s own name, not a customer’s domain.`,
      'Take on the domain itself, for example the part after the host’s first label.',
    );
  const customer = requireCustomer(context, input.customer, 'customer');
  const plan = requirePlan(context, input.plan, 'plan');
  const exists = () =>
    new Problem('exists-already', `The domain ${name} is on this server already.`, `See it with: tenedor domain show ${name}`, 'name');
  if (store.findDomain(db, name)) throw exists();
  const key = await newKeyPair('rsa');
  await db.commit(() => {
    if (store.findDomain(db, name)) throw exists();
    const now = clock.now();
    const id = store.addDomain(
      db,
      { name, customerId: customer.id, planId: plan.id, role: input.role, hourLimit: plan.hourLimit, dayLimit: plan.dayLimit },
      now,
    );
    addKey(db, id, { selector: newSelector('rsa', now), ...key, state: 'active' }, now);
    addEntry(db, {
      at: now,
      journeyId: null,
      domain: name,
      event: 'domain-added',
      data: { role: input.role, customer: customer.name, plan: plan.name },
    });
  });
  return showDomain(context, name);
}

export interface DomainChanges {
  customer?: string | undefined;
  plan?: string | undefined;
  role?: Role | undefined;
  judge?: store.Judge | undefined;
  dmarc?: Policy | undefined;
}

/** Changes a domain. A new plan brings its limits. */
export async function changeDomain(context: ServiceContext, name: string, changes: DomainChanges): Promise<DomainView> {
  const { db, clock } = context;
  await db.commit(() => {
    const domain = requireDomain(context, name);
    const customer = requireCustomer(context, changes.customer ?? domain.customer, 'customer');
    const plan = requirePlan(context, changes.plan ?? domain.plan, 'plan');
    const role = changes.role ?? domain.role;
    if (role !== 'home' && domain.role === 'home' && listMailboxes(db, domain.id).length > 0)
      throw new Problem(
        'in-use',
        `${domain.name} has mailboxes here, which the role ${role} does not serve.`,
        'Remove its mailboxes first.',
        'role',
      );
    const limits = plan.id === domain.planId ? domain : plan;
    store.changeDomain(db, domain.id, {
      customerId: customer.id,
      planId: plan.id,
      role,
      hourLimit: limits.hourLimit,
      dayLimit: limits.dayLimit,
    });
    if (role !== domain.role) forgetCheck(db, domain.id);
    if (changes.judge) store.setJudge(db, domain.id, changes.judge);
    if (changes.dmarc) {
      store.setDmarcStage(db, domain.id, changes.dmarc);
      hurryCheck(db, domain.id);
    }
    addEntry(db, { at: clock.now(), journeyId: null, domain: domain.name, event: 'domain-changed', data: changes });
  });
  return showDomain(context, name);
}

export interface Removal {
  /** What goes with it, in words, one thing a line. */
  goes: string[];
  stays: string[];
}

/** What removing a domain takes along. */
export function domainRemoval(context: ServiceContext, name: string): Removal {
  const { db } = context;
  const domain = requireDomain(context, name);
  const mailboxes = listMailboxes(db, domain.id);
  const messages = mailboxes.reduce((sum, one) => sum + one.messages, 0);
  const goes = [
    `${count(mailboxes.length, 'mailbox', 'mailboxes')} with ${count(messages, 'message')}`,
    `${count(listAliases(db, domain.id).length, 'alias', 'aliases')}`,
    'its DKIM key, limits and ledger',
  ];
  for (const alias of aliasesLeadingTo(db, `@${domain.name}`)) goes.push(aliasLoss(alias, (target) => target.endsWith(`@${domain.name}`)));
  return { goes, stays: ['journeys of its messages, and what is queued already'] };
}

export async function removeDomain(context: ServiceContext, name: string): Promise<void> {
  const { db, clock } = context;
  const id = await db.commit(() => {
    const domain = requireDomain(context, name);
    dropTargets(context, aliasesLeadingTo(db, `@${domain.name}`), (target) => target.endsWith(`@${domain.name}`));
    store.removeDomain(db, domain.id);
    addEntry(db, { at: clock.now(), journeyId: null, domain: domain.name, event: 'domain-removed', data: {} });
    return domain.id;
  });
  context.keys.forget(id);
  context.limits.forget(id);
}

type TargetedAlias = { id: number; address: string; targets: string[] };

/** Says what an alias loses when some of its targets go. */
export function aliasLoss(alias: TargetedAlias, goes: (target: string) => boolean): string {
  return alias.targets.every(goes)
    ? `the alias ${alias.address}, which leads nowhere else`
    : `the alias ${alias.address} loses ${alias.targets.filter(goes).join(', ')}`;
}

/** Takes targets away from aliases, and aliases away that have none left, so that nothing leads nowhere. */
export function dropTargets({ db }: ServiceContext, aliases: readonly TargetedAlias[], goes: (target: string) => boolean): void {
  for (const alias of aliases) {
    const left = alias.targets.filter((target) => !goes(target));
    if (left.length === 0) removeAlias(db, alias.id);
    else setTargets(db, alias.id, left);
  }
}

export const count = (number: number, one: string, more = `${one}s`): string => `${number} ${number === 1 ? one : more}`;

export function showDomain(context: ServiceContext, name: string): DomainView {
  const domain = requireDomain(context, name);
  const row = store.findDomainRow(context.db, domain.id);
  if (!row) throw new Error(`${name} vanished between two look-ups`);
  return view(context, row);
}

export function listDomains(context: ServiceContext, query: store.DomainQuery): { total: number; rows: DomainView[] } {
  const { total, rows } = store.listDomains(context.db, query);
  return { total, rows: rows.map((row) => view(context, row)) };
}

function view({ limits }: ServiceContext, row: store.DomainRow): DomainView {
  return { ...row, display: domainToUnicode(row.name), usage: limits.usage(row.id, { hour: row.hourLimit, day: row.dayLimit }) };
}

/** Sets a domain's limits; undefined leaves one as it is, null takes it away. Applies to the next recipient. */
export async function setLimit(
  context: ServiceContext,
  name: string,
  limits: { hour?: number | null | undefined; day?: number | null | undefined },
): Promise<DomainView> {
  const { db, clock } = context;
  await db.commit(() => {
    const domain = requireDomain(context, name);
    const { id: customerId } = requireCustomer(context, domain.customer);
    const hourLimit = limits.hour === undefined ? domain.hourLimit : limits.hour;
    const dayLimit = limits.day === undefined ? domain.dayLimit : limits.day;
    store.changeDomain(db, domain.id, { customerId, planId: domain.planId, role: domain.role, hourLimit, dayLimit });
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: domain.name,
      event: 'limit-set',
      data: { hour: hourLimit, day: dayLimit, before: { hour: domain.hourLimit, day: domain.dayLimit } },
    });
  });
  return showDomain(context, name);
}
