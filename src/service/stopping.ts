import { brakeDue } from '../core/limits/usual.ts';
import { findDomainFacts } from '../store/domains.ts';
import { addEntry } from '../store/journeys.ts';
import { planOf, type ScopeRef, scopeName } from '../store/limits.ts';
import { findMailbox, lookUpMailbox } from '../store/mailboxes.ts';
import { countOfSender, hold, listOfSender, listStopped, type QueueItem, release, type SenderScope } from '../store/queue.ts';
import type { RowChange } from '../store/row-changes.ts';
import * as store from '../store/stops.ts';
import type { ServiceContext } from './context.ts';
import { badInput, Problem } from './problem.ts';
import { dropIds } from './queue.ts';
import { type NamedScope, requireScope, scopeText } from './scopes.ts';
import { stoppable } from './submitter.ts';

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
const LONGEST_TEXT = 200;

export interface StopView {
  scope: string;
  kind: store.StopKind;
  name: string;
  sending: boolean;
  receiving: boolean;
  text: string;
  figures: Record<string, unknown>;
  at: number;
  /** Recipients of its mail that are held by this. */
  held: number;
}

type StoppableScope = NamedScope & { kind: store.StopScope };

function requireStoppable(context: ServiceContext, text: string): StoppableScope {
  const scope = requireScope(context, text);
  if (scope.kind === 'customer' || scope.kind === 'domain' || scope.kind === 'mailbox') return scope as StoppableScope;
  throw badInput('scope', `${scope.name} can’t be paused.`, 'Name a domain, a mailbox or customer:NAME.');
}

const senderScope = (kind: store.StopScope, name: string): SenderScope => ({
  customer: kind === 'customer' ? name : null,
  domain: kind === 'domain' ? name : null,
  mailbox: kind === 'mailbox' ? name : null,
});

export async function listStops(context: ServiceContext): Promise<StopView[]> {
  const { db } = context;
  const views = await Promise.all(
    store.listStops(db).map(async ({ scope, scopeId, kind, sending, receiving, text, figures, at }) => {
      const name = scopeName(db, { kind: scope, id: scopeId });
      if (name === null) return [];
      const held = await countOfSender(db, senderScope(scope, name), kind);
      return [{ scope: scopeText(scope, name), kind, name, sending: sending === 1, receiving: receiving === 1, text, figures, at, held }];
    }),
  );
  return views.flat();
}

/**
 * Stops a scope, and holds what it has in the queue when it must not send. The stop counts from its commit on, for what waits as well
 * (`stopOfSender`), so that a crash in the middle of holding lets nothing go.
 */
export async function setStopFor(
  context: ServiceContext,
  scope: StoppableScope,
  kind: store.StopKind,
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
        sending: values.sending === 1,
        receiving: values.receiving === 1,
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

const numbers = (rows: readonly { id: number }[]): number[] => rows.map((row) => row.id);

/** What keeps the sender of waiting mail from sending; null when nothing does, and for reports, which are the server's own. */
export function stopOfSender(
  { db, stops }: Pick<ServiceContext, 'db' | 'stops'>,
  { kind, senderDomain, mailbox }: Pick<QueueItem, 'kind' | 'senderDomain' | 'mailbox'>,
): store.Stop | null {
  if (stops.isEmpty || kind === 'report' || senderDomain === null) return null;
  const domain = findDomainFacts(db, senderDomain);
  if (!domain) return null;
  const box = mailbox === null ? undefined : findMailbox(db, mailbox.slice(0, mailbox.lastIndexOf('@')), senderDomain);
  return stops.find(stoppable({ mailboxId: box?.id ?? null, domainId: domain.id, customerId: domain.customerId }), 'sending');
}

/** Lets go what is held for a stop that is not in force any more: a crash may have come between its end and the last of what it held. */
export async function letGoOfEndedStops(context: ServiceContext): Promise<void> {
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
  context: ServiceContext,
  text: string,
  how: { sending: boolean; receiving: boolean; text: string | null },
): Promise<StopView> {
  const scope = requireStoppable(context, text);
  const words = (how.text ?? DEFAULT_TEXT).trim();
  if (!how.sending && !how.receiving)
    throw badInput('sending', 'Neither sending nor receiving would be paused.', 'Name one of them, or both.');
  if (words === '' || words.length > LONGEST_TEXT || /[^\x20-\x7e]/.test(words))
    throw badInput(
      'text',
      `The text is not 1 to ${LONGEST_TEXT} characters of plain ASCII.`,
      'It stands in SMTP replies: write it without accents.',
    );
  await setStopFor(context, scope, 'pause', { sending: how.sending ? 1 : 0, receiving: how.receiving ? 1 : 0, text: words, figures: {} });
  return requireStop(context, scope, 'pause');
}

async function requireStop(context: ServiceContext, scope: NamedScope, kind: store.StopKind): Promise<StopView> {
  const found = (await listStops(context)).find((one) => one.kind === kind && one.scope === scopeText(scope.kind, scope.name));
  const nothing = { pause: 'is not paused', brake: 'has no brake set', unusual: 'is not stopped for unusual sending' }[kind];
  if (!found) throw new Problem('not-found', `${scope.name} ${nothing}.`, 'See what is stopped: tenedor brake list');
  return found;
}

/** Ends a pause, a brake or a stop for unusual sending: what was held goes on. */
export async function resume(context: ServiceContext, text: string, kind: store.StopKind): Promise<{ recipients: number }> {
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

/** Drops what a brake or a stop holds; it stays set until it is released. */
export async function discardHeld(context: ServiceContext, text: string, kind: store.StopKind): Promise<{ recipients: number }> {
  const scope = requireStoppable(context, text);
  await requireStop(context, scope, kind);
  const waiting = await listOfSender(context.db, senderScope(scope.kind, scope.name), kind);
  return { recipients: await dropIds(context, numbers(waiting), 'discarded with the brake') };
}

/** A flag for unusual sending was looked at, and all is well. */
export async function clearUnusual(context: ServiceContext, text: string): Promise<void> {
  const { db, clock } = context;
  const scope = requireStoppable(context, text);
  await db.commit(() => {
    if (scope.kind !== 'mailbox' || !store.unflagUnusual(db, scope.id))
      throw new Problem('not-found', `${scope.name} is not flagged for unusual sending.`, 'See who is: tenedor status');
    addEntry(db, { at: clock.now(), journeyId: null, domain: scope.domain, event: 'unusual-cleared', data: { scope: scope.name } });
  });
}

/** How sends ended within one minute. */
interface Ended {
  at: number;
  failed: number;
  ended: number;
}

/** Counts how sends end within the last hour, and sets the brake where too many fail. */
export class Brakes {
  private readonly ended = new Map<string, Ended[]>();

  constructor(private readonly contextOf: () => ServiceContext) {}

  /** Some sends of a domain's mailbox have come to their end. */
  async note({
    domain,
    mailbox,
    failed,
    ended,
  }: {
    domain: string | null;
    mailbox: string | null;
    failed: number;
    ended: number;
  }): Promise<void> {
    const context = this.contextOf();
    const { db } = context;
    const found = domain === null ? undefined : findDomainFacts(db, domain);
    if (!found || domain === null) return;
    const at = mailbox === null ? -1 : mailbox.lastIndexOf('@');
    const box = mailbox === null ? undefined : lookUpMailbox(db, mailbox.slice(0, at), mailbox.slice(at + 1));
    const scopes: StoppableScope[] = [
      ...(box && mailbox !== null ? [{ kind: 'mailbox' as const, id: box.id, name: mailbox, domain }] : []),
      { kind: 'domain', id: found.id, name: domain, domain },
    ];
    for (const scope of scopes) {
      const total = this.count(scope, { at: context.clock.steady(), failed, ended });
      // Good news never sets a brake.
      if (failed === 0) continue;
      const plan = planOf(db, scope);
      if (!plan || plan.brakeShare === null || !brakeDue(total.failed, total.ended, { share: plan.brakeShare, least: plan.brakeLeast }))
        continue;
      if (context.stops.find(scopes, 'sending')) return;
      const text = `Sending of ${scope.name} is stopped: ${total.failed} of ${total.ended} sends failed within an hour; the provider looks into it`;
      for (const one of scopes) this.beginAnew(one);
      await setStopFor(context, scope, 'brake', { sending: 1, receiving: 0, text, figures: { ...total, share: plan.brakeShare } });
      context.notices.tell(
        'brake-set',
        scope,
        { scope: scopeText(scope.kind, scope.name), ...total },
        `The brake of ${scope.name} is set`,
        [
          `${total.failed} of the ${total.ended} messages that ended within the last hour failed for good.`,
          'Sending is stopped and what waits is held, until the provider has looked into it.',
        ],
      );
      return;
    }
  }

  /** Counting begins anew. */
  beginAnew(scope: ScopeRef): void {
    this.ended.delete(`${scope.kind} ${scope.id}`);
  }

  follow(changes: readonly RowChange[]): void {
    for (const { kind, id, what } of changes) if (what === 'gone') this.ended.delete(`${kind} ${id}`);
  }

  private count(scope: ScopeRef, one: Ended): { failed: number; ended: number } {
    const key = `${scope.kind} ${scope.id}`;
    const recent = this.ended.get(key) ?? [];
    const last = recent.at(-1);
    if (last && one.at - last.at < MINUTE) {
      last.failed += one.failed;
      last.ended += one.ended;
    } else recent.push({ ...one });
    while ((recent[0]?.at ?? one.at) <= one.at - HOUR) recent.shift();
    this.ended.set(key, recent);
    return {
      failed: recent.reduce((total, { failed }) => total + failed, 0),
      ended: recent.reduce((total, { ended }) => total + ended, 0),
    };
  }
}
