import { brakeDue } from '../core/limits/usual.ts';
import { findDomainFacts } from '../store/domains.ts';
import { addEntry } from '../store/journeys.ts';
import { planOf, type ScopeRef, scopeName } from '../store/limits.ts';
import { lookUpMailbox } from '../store/mailboxes.ts';
import { heldOf, holdOf, releaseOf, type SenderScope } from '../store/queue.ts';
import type { RowChange } from '../store/row-changes.ts';
import * as store from '../store/stops.ts';
import type { ServiceContext } from './context.ts';
import { badInput, Problem } from './problem.ts';
import { dropIds } from './queue.ts';
import { type NamedScope, requireScope, scopeText } from './scopes.ts';

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

export function listStops(context: ServiceContext): StopView[] {
  const { db } = context;
  return store.listStops(db).flatMap(({ scope, scopeId, kind, sending, receiving, text, figures, at }) => {
    const name = scopeName(db, { kind: scope, id: scopeId });
    if (name === null) return [];
    const held = heldOf(db, senderScope(scope, name), kind).length;
    return [{ scope: scopeText(scope, name), kind, name, sending: sending === 1, receiving: receiving === 1, text, figures, at, held }];
  });
}

/** Stops a scope, and holds what it has in the queue when it must not send. */
export async function setStopFor(
  context: ServiceContext,
  scope: StoppableScope,
  kind: store.StopKind,
  values: Pick<store.Stop, 'sending' | 'receiving' | 'text' | 'figures'>,
): Promise<number> {
  const { db, clock, signals } = context;
  const now = clock.now();
  const held = await db.commit(() => {
    // It may have been removed meanwhile.
    if (scopeName(db, scope) === null) return 0;
    store.setStop(db, { ...values, scope: scope.kind, scopeId: scope.id, kind, at: now });
    const number = values.sending ? holdOf(db, senderScope(scope.kind, scope.name), kind, clock.steady()) : 0;
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
        held: number,
      },
    });
    return number;
  });
  signals.emit('queue-changed');
  return held;
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

function requireStop(context: ServiceContext, scope: NamedScope, kind: store.StopKind): StopView {
  const found = listStops(context).find((one) => one.kind === kind && one.scope === scopeText(scope.kind, scope.name));
  const nothing = { pause: 'is not paused', brake: 'has no brake set', unusual: 'is not stopped for unusual sending' }[kind];
  if (!found) throw new Problem('not-found', `${scope.name} ${nothing}.`, 'See what is stopped: tenedor brake list');
  return found;
}

/** Ends a pause, a brake or a stop for unusual sending: what was held goes on. */
export async function resume(context: ServiceContext, text: string, kind: store.StopKind): Promise<{ recipients: number }> {
  const { db, clock, signals } = context;
  const scope = requireStoppable(context, text);
  requireStop(context, scope, kind);
  const recipients = await db.commit(() => {
    store.dropStop(db, scope.kind, scope.id, kind);
    if (kind === 'unusual') store.unflagUnusual(db, scope.id);
    const released = releaseOf(db, senderScope(scope.kind, scope.name), kind, clock.steady());
    const event = ({ pause: 'resumed', brake: 'brake-released', unusual: 'unusual-released' } as const)[kind];
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: scope.domain,
      event,
      data: { scope: scopeText(scope.kind, scope.name), recipients: released },
    });
    return released;
  });
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
  requireStop(context, scope, kind);
  const ids = heldOf(context.db, senderScope(scope.kind, scope.name), kind);
  return { recipients: await dropIds(context, ids, 'discarded with the brake') };
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
