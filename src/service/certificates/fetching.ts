import { createPrivateKey } from 'node:crypto';
import { caaNames, permitsAuthority } from '../../core/certificates/caa.ts';
import { readChain } from '../../core/certificates/chain.ts';
import { nextTry, renewalTime, timeInWindow } from '../../core/certificates/renewal.ts';
import { Gate } from '../../core/gate.ts';
import { lookUp } from '../../core/records/answers.ts';
import { sameAddress } from '../../core/records/reverse-name.ts';
import type { NameLead } from '../../core/vocabulary.ts';
import * as store from '../../store/certificates.ts';
import { addEntry } from '../../store/journeys.ts';
import { zoneSecret } from '../../store/zones.ts';
import { faultText, Problem } from '../base/problem.ts';
import { zoneOf } from '../dns/zones.ts';
import type { CertificateDeps } from './deps.ts';
import { type AuthorityDoor, AuthorityRefusal, type Challenge } from './doors.ts';
import { certificateRow, type NameRow, nameOf, wantedOfDomains, whyNotShown } from './name-rows.ts';

const TICK_MS = 20_000;
const HOUR = 3600_000;
/** Orders of an hour, however many names are new: authorities have limits, and who meets them waits for days. */
const MOST_ORDERS = 40;
/** Names that are looked up at the same time. */
const LOOKS_AT_ONCE = 20;
/** How often an authority is asked whether it proposes another time, and how many questions of one turn that may be (RFC 9773 §4.3). */
const WINDOW_EVERY_MS = 6 * HOUR;
const MOST_WINDOWS = 20;
/** Nothing waits longer than that, but by a clock that was wrong. */
const LONGEST_WAIT_MS = 8 * 24 * HOUR;
/** The record lives no longer than it has to. */
const CHALLENGE_TTL = 60;

const UNTRIED = {
  leads: 'unknown',
  lookedAt: null,
  renewAt: null,
  triedAt: null,
  nextAt: null,
  failures: 0,
  trouble: null,
  troubleCode: null,
} as const;

/** Keeps certificates for all names: looks where they lead, fetches what is missing, and renews in time. */
export class CertificateUpkeep {
  private timer: NodeJS.Timeout | null = null;
  private running: Promise<void> | null = null;
  private isStopped = false;
  private orders: number[] = [];
  /** When each certificate’s window was asked for last, by the steady clock. */
  private readonly windows = new Map<string, number>();

  constructor(private readonly context: CertificateDeps) {}

  start(): void {
    this.timer = setInterval(() => this.look(), TICK_MS);
    this.timer.unref();
    this.look();
  }

  async stop(): Promise<void> {
    this.isStopped = true;
    if (this.timer) clearInterval(this.timer);
    await this.running;
  }

  look(): void {
    this.running ??= this.turn()
      .catch((error: unknown) => this.context.log.error({ fault: faultText(error) }, 'certificates could not be looked after'))
      .finally(() => {
        this.running = null;
      });
  }

  /** One turn: files, where names lead, and what is due. */
  async turn(): Promise<void> {
    const { context } = this;
    await context.certificates.lookAtFiles();
    await this.followDomains();
    const gate = new Gate(LOOKS_AT_ONCE);
    await Promise.all(
      store.listCertificateNames(context.db).map((one) => gate.run(async () => (this.isStopped ? undefined : this.lookWhereItLeads(one)))),
    );
    await this.lookAtWindows();
    for (const name of dueNames(context)) {
      if (this.isStopped || !this.mayOrder()) return;
      await fetchOne(context, name).catch((error: unknown) => {
        if (!(error instanceof Problem)) throw error;
      });
    }
  }

  /** Names of domains that are new, and of those that want none any more. */
  private async followDomains(): Promise<void> {
    const { db, host, certificates } = this.context;
    const wanted = wantedOfDomains(this.context);
    const known = new Map(store.listCertificateNames(db).map((one) => [one.name, one]));
    const added = [...wanted].filter(([name, { domainId }]) => known.get(name)?.domainId !== domainId);
    const gone = [...known.values()].filter((one) => one.domainId !== null && !wanted.has(one.name));
    const isWanted = (name: string): boolean =>
      wanted.has(name) || name === host.name || (known.has(name) && !gone.some((one) => one.name === name));
    // What was fetched for a name goes with it.
    const left = certificates.all.filter((one) => one.source === 'fetched' && !one.names.some(isWanted));
    if (added.length === 0 && gone.length === 0 && left.length === 0 && known.has(host.name)) return;
    await db.commit(() => {
      for (const { row } of left) if (row !== null) store.removeCertificate(db, row);
      for (const [name, { domainId }] of added) store.putCertificateName(db, { ...(known.get(name) ?? UNTRIED), name, domainId });
      for (const { name } of gone) store.removeCertificateName(db, name);
      if (!known.has(host.name)) store.putCertificateName(db, { ...UNTRIED, name: host.name, domainId: null });
    });
  }

  private async lookWhereItLeads(one: store.CertificateName): Promise<void> {
    const { db, clock } = this.context;
    const now = clock.now();
    // What leads elsewhere may be led here at any moment; what leads here stays so for long.
    const every = one.leads === 'here' ? 24 * HOUR : HOUR / 6;
    if (one.lookedAt !== null && now - one.lookedAt < every && now >= one.lookedAt) return;
    const leads = await whereItLeads(this.context, one.name);
    await db.commit(() => {
      const current = store.findCertificateName(db, one.name);
      if (current) store.putCertificateName(db, { ...current, leads, lookedAt: now });
    });
  }

  /** Asks whether what is held should be renewed at another time than was thought: an authority that has to take certificates back says so here. */
  private async lookAtWindows(): Promise<void> {
    const { db, certificates, authority, clock, random } = this.context;
    if (!authority) return;
    const now = clock.steady();
    const due = certificates.all.filter(
      ({ source, chain }) =>
        source === 'fetched' &&
        chain.facts.renewalId !== null &&
        now - (this.windows.get(chain.facts.renewalId) ?? Number.NEGATIVE_INFINITY) >= WINDOW_EVERY_MS,
    );
    for (const { chain, names } of due.slice(0, MOST_WINDOWS)) {
      if (this.isStopped) return;
      const id = chain.facts.renewalId as string;
      this.windows.set(id, now);
      const window = await authority.renewal(id).catch(() => null);
      const state = store.findCertificateName(db, names[0] ?? '');
      if (!window || !state || (state.renewAt !== null && state.renewAt >= window.from && state.renewAt <= window.to)) continue;
      await db.commit(() => store.putCertificateName(db, { ...state, renewAt: timeInWindow(window, random()) }));
    }
    const held = new Set(certificates.all.map((one) => one.chain.facts.renewalId));
    for (const id of this.windows.keys()) if (!held.has(id)) this.windows.delete(id);
  }

  private mayOrder(): boolean {
    const now = this.context.clock.steady();
    this.orders = this.orders.filter((at) => now - at < HOUR);
    if (this.orders.length >= MOST_ORDERS) return false;
    this.orders.push(now);
    return true;
  }
}

/** Whether a name’s addresses are the host’s. */
export async function whereItLeads({ host, lookup }: CertificateDeps, name: string): Promise<NameLead> {
  const asked = name.replace(/^\*\./, '');
  const answers = await Promise.all([lookUp(lookup, asked, 'A'), lookUp(lookup, asked, 'AAAA')]);
  const values = answers.flatMap((one) => (one.kind === 'found' ? one.values : []));
  if (values.some((value) => host.addresses.some((own) => sameAddress(own, value))))
    return values.every((value) => host.addresses.some((own) => sameAddress(own, value))) ? 'here' : 'elsewhere';
  if (values.length > 0) return 'elsewhere';
  return answers.some((one) => one.kind === 'failed') ? 'unknown' : 'nowhere';
}

/** Names whose certificate is to be fetched now, those that have none first. */
export function dueNames(context: CertificateDeps): string[] {
  const { db, certificates, clock, authority } = context;
  if (!authority) return [];
  const now = clock.now();
  const due = store.listCertificateNames(db).filter((one) => {
    if (whyNotShown(context, one.name) !== null || (one.nextAt !== null && one.nextAt > now && one.nextAt - now < LONGEST_WAIT_MS))
      return false;
    const held = certificates.for(one.name);
    if (held?.source === 'fetched') return one.renewAt === null || one.renewAt <= now || held.notAfter <= now;
    // What somebody has given is somebody’s to renew; one that has expired is better replaced.
    if (held && held.source !== 'self-signed' && held.notAfter > now) return false;
    return one.leads === 'here' || zoneOf(context, one.name) !== null;
  });
  return due
    .sort((one, other) => Number(certificates.for(one.name) !== undefined) - Number(certificates.for(other.name) !== undefined))
    .map((one) => one.name);
}

/** Fetches a certificate now, for a name that is wanted or one that is asked for. */
export async function fetchCertificate(context: CertificateDeps, text: string): Promise<NameRow> {
  const name = nameOf(text);
  if (!context.authority)
    throw new Problem(
      'not-here',
      'No authority is set to fetch certificates from.',
      'Set [authority] in the configuration, or add a certificate: tenedor certificate add',
    );
  const why = whyNotShown(context, name);
  if (why !== null)
    throw new Problem(
      'not-here',
      `That ${name} is ours can’t be shown to the authority: ${why}.`,
      'Set one of both up, then fetch it again.',
    );
  await fetchOne(context, name);
  return certificateRow(context, name);
}

async function fetchOne(context: CertificateDeps, name: string): Promise<void> {
  const { db, clock, random } = context;
  const authority = context.authority as AuthorityDoor;
  const { fetching } = context.certificates;
  if (fetching.has(name))
    throw new Problem(
      'under-way',
      `A certificate for ${name} is being fetched already.`,
      'Look again in a minute: tenedor certificate show',
    );
  fetching.add(name);
  const state = (): store.CertificateName =>
    store.findCertificateName(db, name) ?? { ...UNTRIED, name, domainId: wantedOfDomains(context).get(name)?.domainId ?? null };
  // Whoever asks may have led it here a moment ago.
  const leads = await whereItLeads(context, name);
  const lookedAt = clock.now();
  try {
    await checkCaa(context, authority, name);
    const login = await loginTo(context, authority);
    const kind = zoneOf(context, name) ? 'dns-01' : 'http-01';
    const ordered = await authority.order(
      login,
      name,
      kind,
      (one) => show(context, one),
      (one) => hide(context, one),
    );
    const chain = readChain(ordered.chain, context.certificates.roots, createPrivateKey(ordered.key));
    const window = chain.facts.renewalId === null ? null : await authority.renewal(chain.facts.renewalId).catch(() => null);
    const renewAt = window ? timeInWindow(window, random()) : renewalTime(chain.facts, random());
    const now = clock.now();
    await db.commit(() => {
      for (const old of store.listCertificates(db))
        if (old.source === 'fetched' && old.names.includes(name)) store.removeCertificate(db, old.id);
      store.addCertificate(db, {
        source: 'fetched',
        names: chain.facts.names,
        chain: chain.pem,
        privateKey: context.keyFile.seal(ordered.key),
        isInOrder: chain.isInOrder,
        since: now,
      });
      store.putCertificateName(db, {
        ...state(),
        leads,
        lookedAt,
        renewAt,
        triedAt: now,
        nextAt: null,
        failures: 0,
        trouble: null,
        troubleCode: null,
      });
      addEntry(db, {
        at: now,
        journeyId: null,
        domain: domainOf(context, name),
        event: 'certificate-fetched',
        data: { name, issuer: chain.facts.issuer, until: chain.facts.notAfter },
      });
    });
  } catch (error) {
    if (!(error instanceof AuthorityRefusal)) throw error;
    const now = clock.now();
    const before = state();
    const failures = before.failures + 1;
    const nextAt = nextTry(now, failures, random(), error.retryAfterMs);
    await db.commit(() => {
      const troubleCode = error instanceof CaaForbids ? 'certificate-caa' : 'certificate-failed';
      store.putCertificateName(db, { ...before, leads, lookedAt, triedAt: now, nextAt, failures, trouble: error.message, troubleCode });
      addEntry(db, {
        at: now,
        journeyId: null,
        domain: domainOf(context, name),
        event: 'certificate-failed',
        data: { name, reason: error.message, nextAt },
      });
    });
    throw new Problem('authority', `No certificate for ${name}: ${error.message}`, 'Mend what it names, and fetch it again.');
  } finally {
    fetching.delete(name);
  }
}

const domainOf = (context: CertificateDeps, name: string): string | null => wantedOfDomains(context).get(name)?.domain ?? null;

/** The authority may not be one that the domain’s CAA records name. */
class CaaForbids extends AuthorityRefusal {}

/** RFC 8659 §3: the first name upwards that has such records decides. No answer is left to the authority, which asks for itself. */
async function checkCaa({ lookup }: CertificateDeps, authority: AuthorityDoor, name: string): Promise<void> {
  const own = await authority.names();
  if (own.length === 0) return;
  for (const at of caaNames(name)) {
    const answer = await lookUp(lookup, at, 'CAA');
    if (answer.kind === 'failed') return;
    if (answer.kind !== 'found') continue;
    if (permitsAuthority(answer.values, own, name.startsWith('*.'))) return;
    throw new CaaForbids(`the CAA records at ${at} do not name ${own[0]}.`);
  }
}

/** This host’s account at the authority, opened at the first time. */
async function loginTo(context: CertificateDeps, authority: AuthorityDoor) {
  const { db, clock, keyFile } = context;
  const kept = store.findAuthorityAccount(db, authority.directory);
  if (kept) return { url: kept.url, key: keyFile.open(kept.privateKey) };
  const made = await authority.account(null);
  await db.commit(() =>
    store.putAuthorityAccount(db, { directory: authority.directory, url: made.url, privateKey: keyFile.seal(made.key) }, clock.now()),
  );
  return made;
}

async function show(context: CertificateDeps, challenge: Challenge): Promise<void> {
  if (challenge.kind === 'http-01') context.challenges.set(challenge.token, challenge.answer);
  else await changeTxt(context, challenge, 'add');
}

async function hide(context: CertificateDeps, challenge: Challenge): Promise<void> {
  if (challenge.kind === 'http-01') context.challenges.delete(challenge.token);
  else await changeTxt(context, challenge, 'remove');
}

async function changeTxt(
  context: CertificateDeps,
  { name, value }: Extract<Challenge, { kind: 'dns-01' }>,
  action: 'add' | 'remove',
): Promise<void> {
  const zone = zoneOf(context, name);
  if (!zone) throw new AuthorityRefusal(`the zone of ${name} is no longer updated from here.`);
  const secret = context.keyFile.open(zoneSecret(context.db, zone.id));
  const at = `_acme-challenge.${name.replace(/^\*\./, '')}`;
  const result = await context.dns.update(
    { server: zone.server, port: zone.port },
    zone.name,
    { name: zone.keyName, algorithm: zone.algorithm as never, secret },
    [{ action, type: 'TXT', name: at, value }],
    CHALLENGE_TTL,
  );
  if (result.kind !== 'done') throw new AuthorityRefusal(`the zone ${zone.name} could not be updated: ${result.reason}.`);
}
