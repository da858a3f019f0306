import type { ScopeKind } from '../../core/vocabulary.ts';
import type { Payer } from '../../store/ledger.ts';
import type { ScopeRef } from '../../store/limits.ts';

/** Whose limits a send must fit: those of everybody whose row is named and the server's; or those of an outlet alone. */
export type PayerIds = Pick<Payer, 'mailboxId' | 'domainId' | 'customerId' | 'networkId'> & { outletId?: number };

/** The nearest first. */
export const PAYER_KINDS = ['mailbox', 'domain', 'customer', 'network', 'outlet', 'server'] as const satisfies ScopeKind[];

/** The row of that kind whose limits count; null for none. Asked at every recipient, so it makes no list. */
export function rowOf(by: PayerIds, kind: (typeof PAYER_KINDS)[number]): number | null {
  if (by.outletId !== undefined) return kind === 'outlet' ? by.outletId : null;
  if (kind === 'mailbox') return by.mailboxId;
  if (kind === 'domain') return by.domainId;
  if (kind === 'customer') return by.customerId;
  if (kind === 'network') return by.networkId;
  return kind === 'server' ? 0 : null;
}

/** Everybody whose limits a payer's sends must fit, the nearest first. */
export function scopesOf(by: PayerIds): ScopeRef[] {
  return PAYER_KINDS.flatMap((kind) => {
    const id = rowOf(by, kind);
    return id === null ? [] : [{ kind, id }];
  });
}

/** The paying of an outlet itself, for what leaves through it. */
export const outletAsPayer = (outletId: number): PayerIds => ({
  mailboxId: null,
  domainId: null,
  customerId: null,
  networkId: null,
  outletId,
});
