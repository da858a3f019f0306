import { localSide } from '../../core/address/sides.ts';
import type { Order, StopKind } from '../../core/vocabulary.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import { scopeName } from '../../store/limits.ts';
import { findMailbox } from '../../store/mailboxes.ts';
import { countOfSender, hold, listOfSender, listStopped, type QueueItem, release, type SenderScope } from '../../store/queue.ts';
import * as store from '../../store/stops.ts';
import { type Asked, type Listed, listed } from '../base/listed.ts';
import { badInput, Problem } from '../base/problem.ts';
import { type NamedScope, requireScope, scopeText } from '../directory/scopes.ts';
import type { StoppingDeps } from './set-stops-deps.ts';
import { stoppable } from './stops-in-force.ts';

const LONGEST_TEXT = 200;

export interface StopView {
  scope: string;
  kind: StopKind;
  name: string;
  sending: boolean;
  receiving: boolean;
  text: string;
  figures: Record<string, unknown>;
  at: number;
  /** Recipients of its mail that are held by this. */
  held: number;
}

export type StoppableScope = NamedScope & { kind: store.StopScope };

export function requireStoppable(context: StoppingDeps, text: string): StoppableScope {
  const scope = requireScope(context, text);
  if (scope.kind === 'customer' || scope.kind === 'domain' || scope.kind === 'mailbox') return scope as StoppableScope;
  throw badInput('scope', `${scope.name} can’t be paused.`, 'Name a domain, a mailbox or customer:NAME.');
}

export const senderScope = (kind: store.StopScope, name: string): SenderScope => ({
  customer: kind === 'customer' ? name : null,
  domain: kind === 'domain' ? name : null,
  mailbox: kind === 'mailbox' ? name : null,
});

type NamedStop = store.Stop & { name: string };

const namedStops = ({ db }: StoppingDeps): NamedStop[] =>
  store.listStops(db).flatMap((stop) => {
    const name = scopeName(db, { kind: stop.scope, id: stop.scopeId });
    return name === null ? [] : [{ ...stop, name }];
  });

const stopView = async (
  { db }: StoppingDeps,
  { scope, kind, name, sending, receiving, text, figures, at }: NamedStop,
): Promise<StopView> => ({
  scope: scopeText(scope, name),
  kind,
  name,
  sending,
  receiving,
  text,
  figures,
  at,
  held: await countOfSender(db, senderScope(scope, name), kind),
});

/** What is stopped and by what, in the order asked for. */
export async function listStops(context: StoppingDeps, asked: Asked<Order<'stops'>>): Promise<Listed<StopView>> {
  const page = await listed(namedStops(context), asked, (one) => `${scopeText(one.scope, one.name)} ${one.kind} ${one.text}`, {
    since: (one) => -one.at,
    name: (one) => one.name,
    kind: (one) => one.kind,
  });
  return { ...page, rows: await Promise.all(page.rows.map((one) => stopView(context, one))) };
}

/** Brakes and stops that the service has set itself. */
export const automaticStops = (context: StoppingDeps, most: number): Promise<StopView[]> =>
  Promise.all(
    namedStops(context)
      .filter((one) => one.kind !== 'pause')
      .slice(0, most)
      .map((one) => stopView(context, one)),
  );

/**
 * Stops a scope, and holds what it has in the queue when it must not send. The stop counts from its commit on, for what waits as well
 * (`stopOfSender`), so that a crash in the middle of holding lets nothing go.
 */
export async function setStopFor(
  context: StoppingDeps,
  scope: StoppableScope,
  kind: StopKind,
  values: Pick<store.Stop, 'sending' | 'receiving' | 'text' | 'figures'>,
): Promise<number> {
  const { db, clock, signals } = context;
  const now = clock.now();
  const sender = senderScope(scope.kind, scope.name);
  const waiting = values.sending ? await countOfSender(db, sender, null) : 0;
  const isSet = await db.commit(() => {
    // It may have been removed meanwhile.
    if (scopeName(db, scope) === null) return false;
    store.setStop(db, { ...values, scope: scope.kind, scopeId: scope.id, kind, at: now });
    const event = ({ pause: 'paused', brake: 'brake-set', unusual: 'unusual-stopped' } as const)[kind];
    addEntry(db, {
      at: now,
      journeyId: null,
      domain: scope.domain,
      event,
      data: {
        scope: scopeText(scope.kind, scope.name),
        ...values,
        held: waiting,
      },
    });
    return true;
  });
  if (!isSet) return 0;
  const held = values.sending
    ? await db.commitInPieces(await listOfSender(db, sender, null), (some) => hold(db, numbers(some), kind, clock.steady()))
    : 0;
  signals.emit('queue-changed');
  return held;
}

export const numbers = (rows: readonly { id: number }[]): number[] => rows.map((row) => row.id);

/** What keeps the sender of waiting mail from sending; null when nothing does, and for reports, which are the server's own. */
export function stopOfSender(
  { db, stops }: Pick<StoppingDeps, 'db' | 'stops'>,
  { kind, senderDomain, mailbox }: Pick<QueueItem, 'kind' | 'senderDomain' | 'mailbox'>,
): store.Stop | null {
  if (stops.isEmpty || kind === 'report' || senderDomain === null) return null;
  const domain = findDomainFacts(db, senderDomain);
  if (!domain) return null;
  const box = mailbox === null ? undefined : findMailbox(db, localSide(mailbox), senderDomain);
  return stops.find(stoppable({ mailboxId: box?.id ?? null, domainId: domain.id, customerId: domain.customerId }), 'sending');
}

/** Lets go what is held for a stop that is not in force any more: a crash may have come between its end and the last of what it held. */
export async function letGoOfEndedStops(context: StoppingDeps): Promise<void> {
  const { db, clock, signals } = context;
  const held = await listStopped(db);
  const released = await db.commitInPieces(
    held.filter((row) => stopOfSender(context, row) === null),
    (some) => release(db, numbers(some), null, clock.steady()),
  );
  if (released > 0) signals.emit('queue-changed');
}

const DEFAULT_TEXT = 'Mail is paused by the provider; it is taken again later';

/** Pauses sending, receiving or both. Temporary refusals: mail waits with who sends it until the pause ends. */
export async function pause(
  context: StoppingDeps,
  text: string,
  how: { sending: boolean; receiving: boolean; text: string | null },
): Promise<StopView> {
  const scope = requireStoppable(context, text);
  const words = (how.text ?? DEFAULT_TEXT).trim();
  if (!how.sending && !how.receiving) throw badInput('sending', 'Neither sending nor receiving was chosen.', 'Choose one, or both.');
  if (words === '' || words.length > LONGEST_TEXT || /[^\x20-\x7e]/.test(words))
    throw badInput(
      'text',
      `The text is not 1 to ${LONGEST_TEXT} characters of plain ASCII.`,
      'It appears in SMTP replies: write it without accents.',
    );
  await setStopFor(context, scope, 'pause', { sending: how.sending, receiving: how.receiving, text: words, figures: {} });
  return requireStop(context, scope, 'pause');
}

export async function requireStop(context: StoppingDeps, scope: NamedScope, kind: StopKind): Promise<StopView> {
  const found = namedStops(context).find((one) => one.kind === kind && one.scope === scope.kind && one.name === scope.name);
  const nothing = { pause: 'is not paused', brake: 'has no brake set', unusual: 'is not stopped for unusual sending' }[kind];
  if (!found) throw new Problem('not-found', `${scope.name} ${nothing}.`, 'List stops: tenedor brake list', 'scope');
  return stopView(context, found);
}

/** Ends a pause, a brake or a stop for unusual sending: what was held goes on. */
export async function resume(context: StoppingDeps, text: string, kind: StopKind): Promise<{ recipients: number }> {
  const { db, clock, signals } = context;
  const scope = requireStoppable(context, text);
  const { held } = await requireStop(context, scope, kind);
  await db.commit(() => {
    store.dropStop(db, scope.kind, scope.id, kind);
    if (kind === 'unusual') store.unflagUnusual(db, scope.id);
    const event = ({ pause: 'resumed', brake: 'brake-released', unusual: 'unusual-released' } as const)[kind];
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: scope.domain,
      event,
      data: { scope: scopeText(scope.kind, scope.name), recipients: held },
    });
  });
  const waiting = await listOfSender(db, senderScope(scope.kind, scope.name), kind);
  const recipients = await db.commitInPieces(waiting, (some) => release(db, numbers(some), kind, clock.steady()));
  context.brakes.beginAnew(scope);
  // What its mailbox did is no longer held against the domain either.
  const domain = scope.domain === null ? undefined : findDomainFacts(db, scope.domain);
  if (domain) context.brakes.beginAnew({ kind: 'domain', id: domain.id });
  signals.emit('queue-changed');
  return { recipients };
}

/** A flag for unusual sending was looked at, and all is well. */
export async function clearUnusual(context: StoppingDeps, text: string): Promise<void> {
  const { db, clock } = context;
  const scope = requireStoppable(context, text);
  await db.commit(() => {
    if (scope.kind !== 'mailbox' || !store.unflagUnusual(db, scope.id))
      throw new Problem(
        'not-found',
        `${scope.name} is not flagged for unusual sending.`,
        'List flagged mailboxes: tenedor status',
        'scope',
      );
    addEntry(db, { at: clock.now(), journeyId: null, domain: scope.domain, event: 'unusual-cleared', data: { scope: scope.name } });
  });
}
