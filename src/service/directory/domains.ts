import { parseDomain } from '../../core/address/domain.ts';
import { isIpAddress } from '../../core/address/ip-address.ts';
import { parseAddress, parseNewLocalPart } from '../../core/address/mailbox-address.ts';
import type { Policy, Role } from '../../core/vocabulary.ts';
import { DOMAIN_FIELDS, type DomainSettingChanges, type DomainSettings } from '../../resources/domain.ts';
import { withChanges } from '../../resources/fields.ts';
import { forgetCheck, hurryCheck } from '../../store/checks.ts';
import * as store from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import { addKey } from '../../store/keys.ts';
import { listAliases, listMailboxes } from '../../store/mailboxes.ts';
import { endSharesAcrossCustomers } from '../../store/shared-mailboxes.ts';
import { badInput, Problem } from '../base/problem.ts';
import { requireCustomer, requirePlan } from './customers.ts';
import type { DirectoryDeps } from './deps.ts';
import { readHandTo } from './hand-to.ts';
import { type KeyPair, newKeyPair, newSelector } from './signing-keys.ts';

export function asciiDomain(name: string, field: string | null = 'name'): string {
  const parsed = parseDomain(name);
  if (parsed.kind === 'invalid')
    throw new Problem(
      'bad-input',
      `“${name.slice(0, 80)}” is not a domain name: ${parsed.reason}.`,
      'Write it like shop.example.',
      field,
    ).about(name);
  return parsed.ascii;
}

export function requireDomain({ db }: DirectoryDeps, name: string): store.Domain {
  const ascii = asciiDomain(name, null);
  const domain = store.findDomain(db, ascii);
  if (!domain)
    throw new Problem(
      'not-found',
      `The domain ${ascii} is not on this server.`,
      'Check the spelling, list the domains (tenedor domain list), or add it (tenedor domain add).',
    ).about(name);
  return domain;
}

/** For what only makes sense where the mailboxes live here. */
export function requireHome(domain: store.Domain): void {
  if (domain.role !== 'home')
    throw new Problem(
      'not-here',
      `${domain.name} has the role ${domain.role}: its mailboxes are on another server.`,
      'To host its mailboxes here, set the role home first.',
    );
  if (domain.twinOf !== null)
    throw new Problem(
      'not-here',
      `${domain.name} is a twin of ${domain.twinOf}: its addresses are those of that domain.`,
      `Make the change in ${domain.twinOf}, or end the twin: tenedor twin remove ${domain.name}`,
    );
}

export interface NewDomain {
  name: string;
  customer: string;
  plan: string;
  role: Role;
  /** With pass-on and standby: the server that has its mailboxes. */
  primaryServer?: string | null;
}

/** Checks what can be checked of a new domain by itself; returns its name. */
export function cleanDomainName({ db, host }: DirectoryDeps, written: string): string {
  const name = asciiDomain(written);
  if (name === host.name)
    throw badInput(
      'name',
      `${name} is this host’s own name, not a customer’s domain.`,
      'Add the domain itself, for example the part after the host’s first label.',
    );
  if (store.findDomain(db, name))
    throw new Problem(
      'exists-already',
      `The domain ${name} is already on this server.`,
      `See it with: tenedor domain show ${name}`,
      'name',
    );
  return name;
}

/** Puts a domain in, with its DKIM key and its plan's limits; within a commit. Returns its number. */
export function insertDomain(context: DirectoryDeps, input: NewDomain, key: KeyPair): number {
  const { db, clock } = context;
  const name = cleanDomainName(context, input.name);
  const now = clock.now();
  const customer = requireCustomer(context, input.customer, 'customer');
  const plan = requirePlan(context, input.plan, 'plan');
  const id = store.addDomain(db, { name, customerId: customer.id, planId: plan.id, role: input.role }, now);
  store.setDomainSettings(db, id, settingsAfter(requireDomain(context, name), input.role, { primaryServer: input.primaryServer ?? null }));
  addKey(db, id, { selector: newSelector('rsa', now), ...key, privateKey: context.keyFile.seal(key.privateKey), state: 'active' }, now);
  addEntry(db, {
    at: now,
    journeyId: null,
    domain: name,
    event: 'domain-added',
    data: { role: input.role, customer: customer.name, plan: plan.name },
  });
  return id;
}

/** Takes a domain on: checks the name, makes its DKIM key, starts it with its plan's limits. Returns its name. */
export async function addDomain(context: DirectoryDeps, input: NewDomain): Promise<string> {
  const name = cleanDomainName(context, input.name);
  requireCustomer(context, input.customer, 'customer');
  requirePlan(context, input.plan, 'plan');
  const key = await newKeyPair('rsa');
  // All of it may have changed while the key was made.
  await context.db.commit(() => insertDomain(context, input, key));
  return name;
}

export interface DomainChanges extends DomainSettingChanges {
  customer?: string | undefined;
  plan?: string | undefined;
  role?: Role | undefined;
  dmarc?: Policy | undefined;
  recipientList?: readonly string[] | null | undefined;
}

/** A server that has a domain's mailboxes, as the role needs it. */
export function requireServer(role: Role, primaryServer: string | null): void {
  if (primaryServer !== null) {
    const { name, port } = readHandTo(primaryServer);
    if ((!isIpAddress(name) && parseDomain(name).kind === 'invalid') || port < 1 || port > 65_535)
      throw badInput(
        'primaryServer',
        `“${primaryServer.slice(0, 80)}” is not a server.`,
        'Write it like mx.office.example, or mx.office.example:2525.',
      );
  }
  if (role === 'pass-on' && primaryServer === null)
    throw badInput(
      'primaryServer',
      'The role pass-on needs a server.',
      'Name the server: tenedor domain set DOMAIN --role pass-on --to HOST',
    );
}

/** The settings that a change leads to, all checked. */
function settingsAfter(domain: store.Domain, role: Role, changes: DomainChanges): DomainSettings {
  const after = withChanges(DOMAIN_FIELDS, domain, changes);
  const { primaryServer, catchAll } = after;
  requireServer(role, primaryServer);
  if (catchAll !== null) {
    const parsed = parseAddress(catchAll);
    if (parsed.kind === 'invalid')
      throw badInput('catchAll', `“${catchAll.slice(0, 80)}” is not an address: ${parsed.reason}.`, 'Write it like ana@shop.example.');
  }
  return { ...after, catchAll: catchAll?.toLowerCase() ?? null, primaryServer: primaryServer?.toLowerCase() ?? null };
}

/** The local parts of a list, each once. */
function localParts(list: readonly string[]): string[] {
  return [
    ...new Set(
      list.map((text) => {
        const local = parseNewLocalPart(text.split('@')[0] ?? '');
        if (local.kind === 'invalid')
          throw badInput(
            'recipientList',
            `“${text.slice(0, 80)}” is not a valid address: ${local.reason}.`,
            'List local parts, without @ and domain.',
          );
        return local.local;
      }),
    ),
  ];
}

/** Which local parts exist on the server that has a domain's mailboxes; null where that server is asked. */
export const listRecipients = (context: DirectoryDeps, name: string): string[] | null =>
  store.findRecipientList(context.db, requireDomain(context, name).id);

/** Makes all addresses of a domain mean the same names of another one; null ends that. */
export async function setTwin(context: DirectoryDeps, name: string, of: string | null): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    const domain = requireDomain(context, name);
    const first = of === null ? null : requireDomain(context, of);
    if (first) {
      requireHome(first);
      if (first.id === domain.id) throw badInput('of', `${domain.name} can’t be its own twin.`, 'Name another domain.');
      if (domain.role !== 'home') requireHome(domain);
      if (listMailboxes(db, domain.id).length > 0 || listAliases(db, domain.id).length > 0)
        throw new Problem('in-use', `${domain.name} has its own mailboxes or aliases.`, 'Remove them first: a twin has none.');
      if (store.twinsOf(db, domain.id).length > 0)
        throw new Problem('in-use', `${domain.name} has twins itself.`, 'Make those twins of the other domain first.');
    } else if (domain.twinOf === null) throw new Problem('not-found', `${domain.name} is not a twin.`, 'List the twins: tenedor twin list');
    store.setTwin(db, domain.id, first?.id ?? null);
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: domain.name,
      ...(first ? { event: 'twin-set', data: { of: first.name } } : { event: 'twin-removed', data: { of: domain.twinOf } }),
    });
  });
}

/** Changes a domain. A new plan counts at once for what has no value of its own. */
export async function changeDomain(context: DirectoryDeps, name: string, changes: DomainChanges): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    const domain = requireDomain(context, name);
    const customer = requireCustomer(context, changes.customer ?? domain.customer, 'customer');
    const plan = requirePlan(context, changes.plan ?? domain.plan, 'plan');
    const role = changes.role ?? domain.role;
    if (role !== 'home' && domain.role === 'home' && listMailboxes(db, domain.id).length > 0)
      throw new Problem(
        'in-use',
        `${domain.name} has mailboxes here, and the role ${role} has none.`,
        'Remove its mailboxes first.',
        'role',
      );
    store.changeDomain(db, domain.id, { customerId: customer.id, planId: plan.id, role });
    // What is shared is shared within one customer.
    const ended = customer.name === domain.customer ? [] : endSharesAcrossCustomers(db, domain.id);
    for (const { mailbox, member } of ended)
      addEntry(db, {
        at: clock.now(),
        journeyId: null,
        domain: domain.name,
        event: 'mailbox-unshared',
        data: { address: mailbox, member },
      });
    store.setDomainSettings(db, domain.id, settingsAfter(domain, role, changes));
    const { recipientList, ...rest } = changes;
    const recipients = recipientList && localParts(recipientList);
    if (recipients !== undefined) store.setRecipientList(db, domain.id, recipients, clock.now());
    if (role !== domain.role) forgetCheck(db, domain.id);
    if (changes.dmarc) {
      store.setDmarcStage(db, domain.id, changes.dmarc);
      hurryCheck(db, domain.id);
    }
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: domain.name,
      event: 'domain-changed',
      data: { ...rest, ...(recipients === undefined ? {} : { recipients: recipients?.length ?? null }) },
    });
  });
}
