import { parseNewLocalPart } from '../../core/address/mailbox-address.ts';
import { countAppPasswords, removeAppPasswordsOf } from '../../store/app-passwords.ts';
import { addEntry } from '../../store/journeys.ts';
import { setCopies } from '../../store/mailbox-copies.ts';
import * as store from '../../store/mailboxes.ts';
import { findMoved } from '../../store/moved-addresses.ts';
import { Problem } from '../base/problem.ts';
import { fastHash, generatedPassword, hashPassword, newToken, requireGoodPassword } from '../base/secrets.ts';
import type { DirectoryDeps } from './deps.ts';
import { requireDomain, requireHome } from './domains.ts';
import { aliasLoss, count, dropTargets, endLeadingTo, leadsElsewhere, type Removal } from './removals.ts';
import { ALIAS, COPIES, cleanTargets, requireReachable } from './targets.ts';

/** Splits `name@domain` of something that is to be here, and checks both parts. */
export function localAddress(text: string, field: string | null = 'address'): { local: string; domain: string } {
  const at = text.lastIndexOf('@');
  const example = 'Write it like ana@shop.example.';
  if (at < 1) throw new Problem('bad-input', `“${text.slice(0, 80)}” is not an address.`, example, field).about(text);
  const local = parseNewLocalPart(text.slice(0, at));
  if (local.kind === 'invalid')
    throw new Problem(
      'bad-input',
      `“${text.slice(0, 80)}” can’t be an address here: of its local part, ${local.reason}.`,
      example,
      field,
    ).about(text);
  return { local: local.local, domain: text.slice(at + 1) };
}

export function requireMailbox(context: DirectoryDeps, address: string): store.Mailbox {
  const { local, domain } = localAddress(address, null);
  const { name } = requireDomain(context, domain);
  const mailbox = store.findMailbox(context.db, local, name);
  if (!mailbox)
    throw new Problem('not-found', `There is no mailbox ${local}@${name}.`, `List the mailboxes there: tenedor mailbox list ${name}`).about(
      address,
    );
  return mailbox;
}

function requireAlias(context: DirectoryDeps, address: string): store.Alias {
  const { local, domain } = localAddress(address, null);
  const { name } = requireDomain(context, domain);
  const alias = store.findAlias(context.db, local, name);
  if (!alias)
    throw new Problem('not-found', `There is no alias ${local}@${name}.`, `List the aliases there: tenedor alias list ${name}`).about(
      address,
    );
  return alias;
}

export function requireFree({ db }: DirectoryDeps, local: string, domain: string): void {
  const taken = store.findMailbox(db, local, domain) ? 'a mailbox' : store.findAlias(db, local, domain) ? 'an alias' : null;
  if (findMoved(db, local, domain))
    throw new Problem(
      'exists-already',
      `${local}@${domain} has moved.`,
      `Choose another address, or remove the entry: tenedor moved remove ${local}@${domain}`,
      'address',
    );
  if (taken)
    throw new Problem(
      'exists-already',
      `${local}@${domain} is already ${taken}.`,
      'Choose another address, or remove that one first.',
      'address',
    );
}

export interface NewMailbox {
  address: string;
  /** Null: one is generated, and shown only once. */
  password: string | null;
  quotaBytes: number | null;
  quotaMessages?: number | null;
  name?: string | null;
  /** Nobody's own: without a password, it is opened by its members. */
  shared?: boolean;
}

export async function addMailbox(
  context: DirectoryDeps,
  input: NewMailbox,
): Promise<{ mailbox: store.Mailbox; password: string | null; appPasswords: number }> {
  const { db, clock } = context;
  const { local, domain: domainName } = localAddress(input.address);
  const known = requireDomain(context, domainName);
  requireHome(known);
  requireFree(context, local, known.name);
  if (input.password !== null) requireGoodPassword(input.password);
  const isOpenedByMembers = input.shared === true && input.password === null;
  const password = input.password ?? generatedPassword();
  const passwordHash = isOpenedByMembers ? fastHash(newToken()) : await hashPassword(password);
  await db.commit(() => {
    const domain = requireDomain(context, domainName);
    requireHome(domain);
    requireFree(context, local, domain.name);
    if (store.listMailboxes(db, domain.id).length >= domain.mostMailboxes)
      throw new Problem(
        'plan-full',
        `${domain.name} has the ${count(domain.mostMailboxes, 'mailbox', 'mailboxes')} that its plan “${domain.plan}” allows.`,
        'Give the domain a larger plan, or remove a mailbox.',
      );
    store.addMailbox(
      db,
      {
        domainId: domain.id,
        local,
        passwordHash,
        name: input.name ?? null,
        isShared: input.shared ?? false,
        quotaBytes: input.quotaBytes ?? domain.quotaBytes,
        quotaMessages: input.quotaMessages ?? null,
      },
      clock.now(),
    );
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: domain.name,
      event: 'mailbox-added',
      data: { address: `${local}@${domain.name}` },
    });
  });
  return {
    mailbox: requireMailbox(context, input.address),
    password: input.password === null && !isOpenedByMembers ? password : null,
    appPasswords: 0,
  };
}

export const listMailboxes = (context: DirectoryDeps, domain: string, asked: Parameters<typeof store.pageOfMailboxes>[2]) =>
  store.pageOfMailboxes(context.db, requireDomain(context, domain).id, asked);

export interface MailboxChanges {
  password?: string | null | undefined;
  quotaBytes?: number | undefined;
  quotaMessages?: number | null | undefined;
  name?: string | null | undefined;
  appPasswordsOnly?: boolean | undefined;
  pop3Junk?: boolean | undefined;
  copyTo?: readonly string[] | undefined;
  /** Whether the passwords of its devices end, too. */
  revokeAppPasswords?: boolean | undefined;
}

/** Changes quota or password; a null password asks for a generated one, which is returned. */
export async function changeMailbox(
  context: DirectoryDeps,
  address: string,
  changes: MailboxChanges,
): Promise<{ mailbox: store.Mailbox; password: string | null; appPasswords: number }> {
  const { db, clock } = context;
  const { id, domain, address: own } = requireMailbox(context, address);
  if (typeof changes.password === 'string') requireGoodPassword(changes.password);
  const password = changes.password === null ? generatedPassword() : changes.password;
  const hash = password === undefined ? null : await hashPassword(password);
  const appPasswords = await db.commit(() => {
    // It may have been removed, or made anew, while the password was worked out.
    if (requireMailbox(context, address).id !== id)
      throw new Problem(
        'in-use',
        `${address} was removed and added again in the meantime.`,
        'Check its current state, and repeat the change.',
      );
    if (hash !== null) store.setPassword(db, id, hash);
    if (changes.quotaBytes !== undefined) store.setQuota(db, id, changes.quotaBytes);
    if (changes.quotaMessages !== undefined) store.setQuotaMessages(db, id, changes.quotaMessages);
    if (changes.appPasswordsOnly !== undefined) store.setAppPasswordsOnly(db, id, changes.appPasswordsOnly);
    if (changes.name !== undefined) store.setName(db, id, changes.name);
    if (changes.pop3Junk !== undefined) store.setPop3Junk(db, id, changes.pop3Junk);
    const copyTo = changes.copyTo && cleanTargets(changes.copyTo, own, COPIES);
    if (copyTo) {
      requireReachable(context, copyTo, own, 'copyTo');
      setCopies(db, id, copyTo);
    }
    const appPasswordsRevoked = changes.revokeAppPasswords ? removeAppPasswordsOf(db, id) : 0;
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain,
      event: 'mailbox-changed',
      data: {
        address,
        password: hash !== null,
        quotaBytes: changes.quotaBytes ?? null,
        ...(changes.appPasswordsOnly === undefined ? {} : { appPasswordsOnly: changes.appPasswordsOnly }),
        ...(copyTo ? { copyTo } : {}),
        ...(appPasswordsRevoked === 0 ? {} : { appPasswordsRevoked }),
      },
    });
    return countAppPasswords(db, id);
  });
  return { mailbox: requireMailbox(context, address), password: changes.password === null ? (password ?? null) : null, appPasswords };
}

export async function addAlias(context: DirectoryDeps, address: string, targets: readonly string[]): Promise<store.Alias> {
  const { db, clock } = context;
  const { local, domain: domainName } = localAddress(address);
  await db.commit(() => {
    const domain = requireDomain(context, domainName);
    requireHome(domain);
    requireFree(context, local, domain.name);
    const clean = cleanTargets(targets, `${local}@${domain.name}`, ALIAS);
    requireReachable(context, clean, `${local}@${domain.name}`, 'targets');
    store.addAlias(db, domain.id, local, clean, clock.now());
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: domain.name,
      event: 'alias-added',
      data: { address: `${local}@${domain.name}`, targets: clean },
    });
  });
  return requireAlias(context, address);
}

export const listAliases = (context: DirectoryDeps, domain: string, asked: Parameters<typeof store.pageOfAliases>[2]) =>
  store.pageOfAliases(context.db, requireDomain(context, domain).id, asked);
export const showAlias = requireAlias;

export async function changeAlias(context: DirectoryDeps, address: string, targets: readonly string[]): Promise<store.Alias> {
  const { db, clock } = context;
  await db.commit(() => {
    const alias = requireAlias(context, address);
    const clean = cleanTargets(targets, alias.address, ALIAS);
    requireReachable(context, clean, alias.address, 'targets');
    store.setTargets(db, alias.id, clean);
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: alias.domain,
      event: 'alias-changed',
      data: { address: alias.address, targets: clean },
    });
  });
  return requireAlias(context, address);
}

export function aliasRemoval(context: DirectoryDeps, address: string): Removal {
  const alias = requireAlias(context, address);
  const others = store.aliasesLeadingTo(context.db, alias.address);
  const goes = [
    ...others.map((other) => aliasLoss(other, (target) => target === alias.address)),
    ...leadsElsewhere(context, alias.address),
  ];
  return { goes, stays: ['the mailboxes that it delivers to'] };
}

export async function removeAlias(context: DirectoryDeps, address: string): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    const alias = requireAlias(context, address);
    dropTargets(context, store.aliasesLeadingTo(db, alias.address), (target) => target === alias.address);
    endLeadingTo(context, alias.address);
    store.removeAlias(db, alias.id);
    addEntry(db, { at: clock.now(), journeyId: null, domain: alias.domain, event: 'alias-removed', data: { address: alias.address } });
  });
}
