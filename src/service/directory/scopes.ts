import { parseDomain } from '../../core/address/domain.ts';
import type { ScopeKind } from '../../core/vocabulary.ts';
import type { ScopeRef } from '../../store/limits.ts';
import { findOutlet } from '../../store/outlets.ts';
import { findRemoved } from '../../store/removed-scopes.ts';
import { Problem } from '../base/problem.ts';
import { requireCustomer } from './customers.ts';
import type { DirectoryDeps } from './deps.ts';
import { requireDomain } from './domains.ts';
import { requireMailbox } from './mailboxes.ts';
import { requireNetwork } from './networks.ts';

export interface NamedScope extends ScopeRef {
  name: string;
  /** The domain here that it belongs to, for the journal. */
  domain: string | null;
  /** When it was removed, for one that is only in the ledger any more. */
  removedAt?: number;
}

/**
 * Finds a scope by what people call it: `server`, a domain, a mailbox, a network in CIDR form, `customer:NAME` or `outlet:NAME`.
 * Throws a Problem when there is no such thing.
 */
export function requireScope(context: DirectoryDeps, text: string): NamedScope {
  const named = (kind: ScopeKind, { id, name }: { id: number; name: string }, domain: string | null = null): NamedScope => ({
    kind,
    id,
    name,
    domain,
  });
  const trimmed = text.trim();
  if (trimmed === 'server') return named('server', { id: 0, name: 'server' });
  const [, kind, rest = ''] = /^(customer|outlet):(.*)$/s.exec(trimmed) ?? [];
  if (kind === 'customer') return named('customer', requireCustomer(context, rest.trim()));
  if (kind === 'outlet') return named('outlet', requireOutletByName(context, rest.trim()));
  if (trimmed.includes('/')) {
    const network = requireNetwork(context, trimmed);
    return named('network', { id: network.id, name: network.cidr });
  }
  if (trimmed.includes('@')) {
    const mailbox = requireMailbox(context, trimmed);
    return named('mailbox', { id: mailbox.id, name: mailbox.address }, mailbox.domain);
  }
  const domain = requireDomain(context, trimmed);
  return named('domain', domain, domain.name);
}

function requireOutletByName({ db }: DirectoryDeps, name: string) {
  const outlet = findOutlet(db, name);
  if (!outlet) throw new Problem('not-found', `There is no outlet “${name.slice(0, 80)}”.`, 'List them: tenedor outlet list');
  return outlet;
}

/**
 * The same for what is read only: also what was removed, by its old name, or by `removed:NAME` where another one has that name now. Throws a Problem
 * when there is no such thing and never was.
 */
export function requireScopeOfLedger(context: DirectoryDeps, text: string): NamedScope {
  const { db } = context;
  const asked = text.trim();
  const isRemoved = asked.startsWith('removed:');
  const written = isRemoved ? asked.slice('removed:'.length).trim() : asked;
  const removed = (): NamedScope | null => {
    const [, kind, rest = ''] = /^(customer):(.*)$/s.exec(written) ?? [];
    const kinds: ScopeKind[] =
      kind === 'customer' ? ['customer'] : written.includes('/') ? ['network'] : written.includes('@') ? ['mailbox'] : ['domain'];
    const name = kind === undefined ? written.toLowerCase() : rest.trim();
    for (const one of kinds) {
      const found = findRemoved(db, one, parseDomainName(one, name));
      if (found) return { kind: one, id: found.id, name: found.name, domain: found.domain, removedAt: found.at };
    }
    return null;
  };
  if (isRemoved) {
    const found = removed();
    if (found) return found;
    throw new Problem(
      'not-found',
      `No removed object is called “${written.slice(0, 80)}”.`,
      'Leave “removed:” out, or check the spelling.',
    );
  }
  try {
    return requireScope(context, asked);
  } catch (error) {
    const found = error instanceof Problem && error.code === 'not-found' ? removed() : null;
    if (found) return found;
    throw error;
  }
}

function parseDomainName(kind: ScopeKind, name: string): string {
  if (kind !== 'domain') return name;
  const parsed = parseDomain(name);
  return parsed.kind === 'ok' ? parsed.ascii : name;
}

/** How a scope is written, so that `requireScope` finds it again. */
export function scopeText(kind: ScopeKind, name: string): string {
  if (kind === 'server') return 'server';
  return kind === 'customer' || kind === 'outlet' ? `${kind}:${name}` : name;
}
