import { domainSide } from '../../core/address/sides.ts';
import { signedHeaders } from '../../core/message/http-signature.ts';
import { NOTICE_EVENTS, type NoticeEvent } from '../../core/vocabulary.ts';
import { findCustomer } from '../../store/customers.ts';
import { findDomain, findDomainRow } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import { keepWarning, type ScopeRef, scopeName } from '../../store/limits.ts';
import type { NearlyFull } from '../../store/mailbox-use.ts';
import { findMailbox } from '../../store/mailboxes.ts';
import { keepSetting, readSetting } from '../../store/settings.ts';
import * as store from '../../store/webhooks.ts';
import { NOTICES, type NoticeText } from '../../texts/en/notices.ts';
import { BackgroundLoop } from '../base/background-loop.ts';
import { badInput, faultText, Problem, replacedSince } from '../base/problem.ts';
import { generatedPassword } from '../base/secrets.ts';
import { earlier } from '../base/service-clock.ts';
import { type NamedScope, scopeText } from '../directory/scopes.ts';
import type { Reached } from '../limits/reservation.ts';
import type { NoticesDeps } from './deps.ts';
import { mailNotice } from './mail-notice.ts';

export interface NoticeSettings {
  /** Events of which the customer's contact gets mail. */
  mail: NoticeEvent[];
}

const MINUTE = 60_000;
const WAITS = [1, 5, 30, 120, 360, 720].map((minutes) => minutes * MINUTE);
const KEPT_MS = 30 * 24 * 60 * MINUTE;
const LONGEST_SLEEP_MS = 60_000;
const SOON_MS = 50;
const MOST_AT_ONCE = 20;

export const noticeSettings = ({ db }: Pick<NoticesDeps, 'db'>): NoticeSettings =>
  readSetting<NoticeSettings>(db, 'notices') ?? { mail: [...NOTICE_EVENTS] };

export async function setNotices(context: NoticesDeps, settings: NoticeSettings): Promise<NoticeSettings> {
  const { db, clock } = context;
  await db.commit(() => {
    keepSetting(db, 'notices', settings);
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'notices-set', data: settings });
  });
  return noticeSettings(context);
}

export const listWebhooks = ({ db }: NoticesDeps): store.Webhook[] => store.listWebhooks(db);

/** Throws unless this is still the secret that signs what the webhook is told. */
export function requireStillSecret({ db, keyFile }: NoticesDeps, id: number, secret: string): void {
  const kept = store.webhookSecret(db, id);
  if (kept === '' || keyFile.open(kept) !== secret) throw replacedSince('that webhook');
}

/** Adds an address to be told; the secret that signs is shown only once. */
export async function addWebhook(
  context: NoticesDeps,
  input: { url: string; events: readonly NoticeEvent[] },
): Promise<{ webhook: store.Webhook; secret: string }> {
  const { db, clock, keyFile } = context;
  let url: URL;
  try {
    url = new URL(input.url);
  } catch {
    throw badInput('url', `“${input.url.slice(0, 80)}” is not a URL.`, 'Write it like https://desk.provider.example/mail-events.');
  }
  if (url.protocol !== 'https:' && url.protocol !== 'http:')
    throw badInput('url', 'Only http and https can be called.', 'Give an http or https URL.');
  if (url.username !== '' || url.password !== '') throw badInput('url', 'The URL contains a password.', 'Calls are signed; leave it out.');
  const secret = generatedPassword();
  const id = await db.commit(() => {
    if (store.listWebhooks(db).some((one) => one.url === url.href))
      throw new Problem('exists-already', `${url.href} is already called.`, 'List them: tenedor webhook list', 'url');
    const added = store.addWebhook(db, { url: url.href, secret: keyFile.seal(secret), events: input.events }, clock.now());
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'webhook-added', data: { url: url.href, events: input.events } });
    return added;
  });
  return { webhook: requireWebhook(context, id), secret };
}

function requireWebhook({ db }: NoticesDeps, id: number): store.Webhook {
  const found = store.findWebhook(db, id);
  if (!found) throw new Problem('not-found', `There is no webhook ${id}.`, 'List them: tenedor webhook list');
  return found;
}

export async function removeWebhook(context: NoticesDeps, id: number): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    const { url } = requireWebhook(context, id);
    store.removeWebhook(db, id);
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'webhook-removed', data: { url } });
  });
}

/** Calls a webhook with a test event now, and says what came back. */
export async function testWebhook(context: NoticesDeps, id: number): Promise<{ status: number | null; reason: string }> {
  const { db, clock } = context;
  const { url } = requireWebhook(context, id);
  const secret = store.webhookSecret(db, id);
  const body = JSON.stringify({ event: 'test', at: clock.now(), data: {} });
  return context.callOut(url, headersFor(context, { id, url, body, secret }), body);
}

const headersFor = (
  { keyFile, clock }: NoticesDeps,
  call: { id: number; url: string; body: string; secret: string },
): Record<string, string> =>
  signedHeaders({
    url: call.url,
    body: call.body,
    keyId: `webhook-${call.id}`,
    secret: Buffer.from(keyFile.open(call.secret)),
    created: Math.floor(clock.now() / 1000),
  });

/** Tells people and programs of what calls for them: by mail to the customer's contact, and by signed calls that are tried again. */
export class Notices {
  private loop: BackgroundLoop | null = null;
  /** Webhooks that are being called, and the calls. */
  private readonly calling = new Set<number>();
  private readonly underWay = new Set<Promise<void>>();

  constructor(private readonly contextOf: () => NoticesDeps) {}

  /** Never waits, and never fails what it tells of. */
  tell(event: NoticeEvent, scope: NamedScope, data: object, text: NoticeText): void {
    const context = this.contextOf();
    this.write(event, scope, data, text).catch((error) =>
      context.log.error({ event, fault: faultText(error) }, 'a notice could not be sent'),
    );
  }

  /** A limit has come to 80 or 100 percent: journal, attention, mail and calls. */
  async reached({ scope, limit, level, used }: Reached): Promise<void> {
    const context = this.contextOf();
    const { db, clock, limits } = context;
    const name = scopeName(db, scope);
    if (name === null) return;
    const domain = this.domainOf(scope, name);
    const data = { scope: scopeText(scope.kind, name), ...limit, level, used };
    await db.commit(() => {
      keepWarning(db, { ...limit, scope: scope.kind, scopeId: scope.id, level, used, at: limits.now() });
      addEntry(db, { at: clock.now(), journeyId: null, domain, event: 'limit-warning', data });
    });
    const { whenFull } = limits.choice(scope).choice;
    const text = NOTICES.limitReached(name, limit, used.toLocaleString('en'), level, whenFull === 'hold');
    this.tell('limit-warning', { ...scope, name, domain }, data, text);
  }

  start(): void {
    this.looking().start();
  }

  async stop(): Promise<void> {
    await this.loop?.stop();
    await Promise.all(this.underWay);
  }

  /** Made when it is needed first: what it works with is made later than this. */
  private looking(): BackgroundLoop {
    const { log } = this.contextOf();
    this.loop ??= new BackgroundLoop({
      log,
      failed: 'webhooks could not be checked',
      everyMs: LONGEST_SLEEP_MS,
      turn: () => this.callDue(),
    });
    return this.loop;
  }

  private domainOf({ kind }: ScopeRef, name: string): string | null {
    return kind === 'domain' ? name : kind === 'mailbox' ? domainSide(name) : null;
  }

  /** The owner of a mailbox hears that it is nearly full, in the mailbox itself; the customer hears it of a domain. */
  async nearlyFull({ kind, name }: NearlyFull): Promise<void> {
    if (kind === 'domain') return this.domainNearlyFull(name);
    const [local = '', domain = ''] = name.split('@');
    const mailbox = findMailbox(this.contextOf().db, local, domain);
    if (!mailbox) return;
    await mailNotice(this.contextOf(), {
      to: name,
      ...NOTICES.mailboxNearlyFull(name, {
        bytes: mailbox.usedBytes,
        mostBytes: mailbox.quotaBytes,
        messages: mailbox.messages,
        mostMessages: mailbox.quotaMessages,
      }),
      domain,
    });
  }

  private async domainNearlyFull(name: string): Promise<void> {
    const { db } = this.contextOf();
    const domain = findDomain(db, name);
    const row = domain && findDomainRow(db, domain.id);
    if (!row) return;
    const { id, usedBytes, storageBytes, usedMessages, storageMessages } = row;
    const data = { domain: name, usedBytes, storageBytes, usedMessages, storageMessages };
    const stored = { bytes: usedBytes, mostBytes: storageBytes, messages: usedMessages, mostMessages: storageMessages };
    this.tell('nearly-full', { kind: 'domain', id, name, domain: name }, data, NOTICES.domainNearlyFull(name, stored));
  }

  private async write(event: NoticeEvent, scope: NamedScope, data: object, text: NoticeText): Promise<void> {
    const context = this.contextOf();
    const { db, clock } = context;
    const body = JSON.stringify({ event, at: clock.now(), data });
    const hooks = store.listWebhooks(db).filter((one) => one.events.includes(event));
    if (hooks.length > 0) {
      await db.commit(() => {
        for (const { id } of hooks) store.addCall(db, id, { at: clock.now(), event, body, dueAt: clock.steady() });
      });
      this.looking().wake();
    }
    const contact = this.contactOf(scope);
    if (contact !== null && noticeSettings(context).mail.includes(event))
      await mailNotice(context, { to: contact, ...text, domain: scope.domain });
  }

  private contactOf(scope: NamedScope): string | null {
    const { db } = this.contextOf();
    const customer =
      scope.kind === 'customer' ? scope.name : scope.domain === null ? null : (findDomain(db, scope.domain)?.customer ?? null);
    return customer === null ? null : (findCustomer(db, customer)?.contact ?? null);
  }

  /** Each webhook by itself, in the order of its calls: one that does not answer keeps no other one waiting. */
  private async callDue(): Promise<number | null> {
    const { db, clock } = this.contextOf();
    const due = store.dueWebhooks(db, clock.steady(), MOST_AT_ONCE - this.calling.size).filter((id) => !this.calling.has(id));
    for (const id of due) {
      this.calling.add(id);
      const done = this.callOne(id)
        .catch((error: unknown) => this.contextOf().log.error({ fault: faultText(error) }, 'a webhook could not be called'))
        .finally(() => {
          this.calling.delete(id);
          this.underWay.delete(done);
          this.looking().wakeWithin(SOON_MS);
        });
      this.underWay.add(done);
    }
    const next = store.nextCall(db);
    return next === null ? null : Math.min(LONGEST_SLEEP_MS, Math.max(SOON_MS, next - clock.steady()));
  }

  private async callOne(webhookId: number): Promise<void> {
    const context = this.contextOf();
    const { db, clock } = context;
    const call = store.dueCall(db, webhookId, clock.steady());
    if (!call) return;
    const { status, reason } = await context.callOut(call.url, headersFor(context, { ...call, id: call.webhookId }), call.body);
    const isTaken = status !== null && status >= 200 && status < 300;
    const wait = WAITS[call.attempts];
    const next = isTaken || wait === undefined ? null : clock.steady() + wait;
    await db.commit(() => {
      store.noteCall(db, call.id, status === null ? reason : `${status} ${reason}`.trim(), next);
      store.forgetCalls(db, earlier(clock) - KEPT_MS);
    });
  }
}
