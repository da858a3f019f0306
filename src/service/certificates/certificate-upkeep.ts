import { authorityRest, notBeforeNext, timeInWindow } from '../../core/certificates/renewal.ts';
import { Gate } from '../../core/gate.ts';
import { breathe } from '../../core/pieces.ts';
import * as store from '../../store/certificates.ts';
import { BackgroundLoop } from '../base/background-loop.ts';
import { faultText, Problem } from '../base/problem.ts';
import { zoneOf } from '../dns/zones.ts';
import type { CertificateDeps } from './deps.ts';
import { fetchOne, UNTRIED, whereItLeads } from './fetch-certificate.ts';
import { wantedBy, wantedOfDomains, whyNotShown } from './name-rows.ts';

const TICK_MS = 20_000;
const HOUR = 3600_000;
/** Orders of an hour, however many names are new: authorities have limits, and who meets them waits for days. */
const MOST_ORDERS = 40;
/** Names that are looked up at the same time. */
const LOOKS_AT_ONCE = 20;
/** Names that are looked up in one turn: what else it does must not wait for long. */
const MOST_LOOKS = 2000;
/** Names that are judged in one turn of the event loop. */
const NAMES_AT_ONCE = 500;
/** How often an authority is asked whether it proposes another time, and how many questions of one turn that may be (RFC 9773 §4.3). */
const WINDOW_EVERY_MS = 6 * HOUR;
const MOST_WINDOWS = 20;
/** Nothing waits longer than that, but by a clock that was wrong. */
const LONGEST_WAIT_MS = 8 * 24 * HOUR;

/** Keeps certificates for all names: looks where they lead, fetches what is missing, and renews in time. */
export class CertificateUpkeep {
  private readonly loop: BackgroundLoop;
  private orders: number[] = [];
  /** Orders that failed one after the other, whatever their names, and until when the authority is left alone for it. */
  private failures = 0;
  private restUntil = 0;
  /** When each certificate’s window was asked for last, by the steady clock. */
  private readonly windows = new Map<string, number>();

  constructor(private readonly context: CertificateDeps) {
    this.loop = new BackgroundLoop({
      log: context.log,
      failed: 'certificates could not be checked',
      everyMs: TICK_MS,
      turn: () => this.turn(),
    });
  }

  start(): void {
    this.loop.start();
  }

  stop(): Promise<void> {
    return this.loop.stop();
  }

  look(): void {
    this.loop.wake();
  }

  /** One turn: files, where names lead, and what is due. */
  async turn(): Promise<void> {
    const { context } = this;
    await context.certificates.lookAtFiles();
    await this.followDomains();
    const gate = new Gate(LOOKS_AT_ONCE);
    const now = context.clock.now();
    const looked = (await store.listCertificateNames(context.db)).filter((one) => isLookedUpNow(one, now)).slice(0, MOST_LOOKS);
    await Promise.all(looked.map((one) => gate.run(async () => (this.loop.isStopped ? undefined : this.lookWhereItLeads(one)))));
    await this.lookAtWindows();
    for (const name of await dueNames(context)) {
      if (this.loop.isStopped || !this.mayOrder()) return;
      await fetchOne(context, name).then(
        () => {
          this.failures = 0;
        },
        (error: unknown) => {
          if (!(error instanceof Problem)) context.log.error({ name, fault: faultText(error) }, 'a certificate could not be fetched');
          this.failures += 1;
          this.restUntil = context.clock.steady() + authorityRest(this.failures);
        },
      );
    }
  }

  /** Names of domains that are new, and of those that want none any more. */
  private async followDomains(): Promise<void> {
    const { db, host, certificates } = this.context;
    const wanted = await wantedOfDomains(this.context);
    const known = new Map((await store.listCertificateNames(db)).map((one) => [one.name, one]));
    const added = [...wanted].filter(([name, { domainId }]) => known.get(name)?.domainId !== domainId);
    const gone = [...known.values()].filter((one) => one.domainId !== null && !wanted.has(one.name));
    const isWanted = (name: string): boolean => wanted.has(name) || name === host.name || known.get(name)?.domainId === null;
    // What was fetched for a name goes with it.
    const left = certificates.all.filter((one) => one.source === 'fetched' && !one.names.some(isWanted));
    if (added.length === 0 && gone.length === 0 && left.length === 0 && known.has(host.name)) return;
    await db.commit(() => {
      for (const { row } of left) if (row !== null) store.removeCertificate(db, row);
      if (!known.has(host.name)) store.putCertificateName(db, { ...UNTRIED, name: host.name, domainId: null });
    });
    await db.commitInPieces(added, (some) => {
      // A domain may have gone since they were read.
      const still = some.filter(([name, { domainId }]) => wantedBy(this.context, name)?.domainId === domainId);
      for (const [name, { domainId }] of still) store.putCertificateName(db, { ...(known.get(name) ?? UNTRIED), name, domainId });
      return still.length;
    });
    await db.commitInPieces(gone, (some) => {
      for (const { name } of some) store.removeCertificateName(db, name);
      return some.length;
    });
  }

  private async lookWhereItLeads(one: store.CertificateName): Promise<void> {
    const { db, clock } = this.context;
    const now = clock.now();
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
      if (this.loop.isStopped) return;
      const id = chain.facts.renewalId as string;
      this.windows.set(id, now);
      const window = await authority.renewal(id).catch(() => null);
      const state = store.findCertificateName(db, names[0] ?? '');
      if (!window || !state || (state.renewAt !== null && state.renewAt >= window.from && state.renewAt <= window.to)) continue;
      await db.commit(() =>
        store.putCertificateName(db, {
          ...state,
          renewAt: Math.max(timeInWindow(window, random()), notBeforeNext(chain.facts, state.triedAt ?? 0)),
        }),
      );
    }
    const held = new Set(certificates.all.map((one) => one.chain.facts.renewalId));
    for (const id of this.windows.keys()) if (!held.has(id)) this.windows.delete(id);
  }

  private mayOrder(): boolean {
    const now = this.context.clock.steady();
    if (now < this.restUntil) return false;
    this.orders = this.orders.filter((at) => now - at < HOUR);
    if (this.orders.length >= MOST_ORDERS) return false;
    this.orders.push(now);
    return true;
  }
}

/** What leads elsewhere may be led here at any moment; what leads here stays so for long. */
const isLookedUpNow = ({ leads, lookedAt }: store.CertificateName, now: number): boolean =>
  lookedAt === null || now < lookedAt || now - lookedAt >= (leads === 'here' ? 24 * HOUR : HOUR / 6);

/** Names whose certificate is to be fetched now, those that have none first. */
export async function dueNames(context: CertificateDeps): Promise<string[]> {
  const { db, certificates, clock, authority } = context;
  if (!authority) return [];
  const now = clock.now();
  const isDue = (one: store.CertificateName): boolean => {
    if (whyNotShown(context, one.name) !== null || (one.nextAt !== null && one.nextAt > now && one.nextAt - now < LONGEST_WAIT_MS))
      return false;
    const held = certificates.for(one.name);
    if (held?.source === 'fetched') return one.renewAt === null || one.renewAt <= now || held.notAfter <= now;
    // What somebody has given is somebody’s to renew; one that has expired is better replaced.
    if (held && held.source !== 'self-signed' && held.notAfter > now) return false;
    return one.leads === 'here' || zoneOf(context, one.name) !== null;
  };
  const due: store.CertificateName[] = [];
  for (const [at, one] of (await store.listCertificateNames(db)).entries()) {
    if (at % NAMES_AT_ONCE === NAMES_AT_ONCE - 1) await breathe();
    if (isDue(one)) due.push(one);
  }
  return due
    .sort((one, other) => Number(certificates.for(one.name) !== undefined) - Number(certificates.for(other.name) !== undefined))
    .map((one) => one.name);
}
