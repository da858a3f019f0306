import { domainToUnicode } from 'node:url';
import type { StopKind } from '../../core/vocabulary.ts';
import * as store from '../../store/domains.ts';
import type { Listed } from '../base/listed.ts';
import { requireDomain } from '../directory/domains.ts';
import type { LimitUse } from '../limits/reservation.ts';
import type { OverviewDeps } from './deps.ts';

export interface DomainView extends store.DomainRow {
  /** As people write it. */
  display: string;
  /** Its limits with what is used of them; a limit that differs from the plan's says so. */
  limits: LimitUse[];
  /** Domains whose addresses mean those of this one. */
  twins: string[];
  /** Paused, braked or stopped. */
  stops: StopKind[];
}

export function showDomain(context: OverviewDeps, name: string): DomainView {
  const domain = requireDomain(context, name);
  const row = store.findDomainRow(context.db, domain.id);
  if (!row) throw new Error(`${name} vanished between two look-ups`);
  return view(context, row);
}

export function listDomains(context: OverviewDeps, query: store.DomainQuery): Listed<DomainView> {
  const page = store.listDomains(context.db, query);
  return { ...page, rows: page.rows.map((row) => view(context, row)) };
}

function view({ limits, stops, db }: OverviewDeps, row: store.DomainRow): DomainView {
  const scope = { kind: 'domain' as const, id: row.id };
  return {
    ...row,
    display: domainToUnicode(row.name),
    limits: limits.uses(scope),
    twins: store.twinsOf(db, row.id),
    stops: stops.of(scope).map((one) => one.kind),
  };
}
