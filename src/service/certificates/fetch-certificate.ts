import { createPrivateKey } from 'node:crypto';
import { caaNames, permitsAuthority } from '../../core/certificates/caa.ts';
import { type Chain, readChain } from '../../core/certificates/chain.ts';
import { coversName } from '../../core/certificates/names.ts';
import { nextTry, notBeforeNext, renewalTime, timeInWindow } from '../../core/certificates/renewal.ts';
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
import { certificateRow, type NameRow, nameOf, wantedBy, whyNotShown } from './name-rows.ts';

/** The record lives no longer than it has to. */
const CHALLENGE_TTL = 60;

/** A name of which nothing is known yet. */
export const UNTRIED = {
  leads: 'unknown',
  lookedAt: null,
  renewAt: null,
  triedAt: null,
  nextAt: null,
  failures: 0,
  trouble: null,
  troubleCode: null,
} as const;

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

/** Fetches a certificate now, for a name that is wanted or one that is asked for. */
export async function fetchCertificate(context: CertificateDeps, text: string): Promise<NameRow> {
  const name = nameOf(text);
  if (!context.authority)
    throw new Problem(
      'not-set-up',
      'No authority is set to fetch certificates from.',
      'Set [authority] in the configuration, or add a certificate: tenedor certificate add',
    );
  const why = whyNotShown(context, name);
  if (why !== null)
    throw new Problem('not-set-up', `That ${name} cannot be validated by the authority: ${why}.`, 'Set up one of them, then fetch again.');
  await fetchOne(context, name);
  return certificateRow(context, name);
}

/** Throws Problem when the authority gives none; then it is noted when it is tried again. */
export async function fetchOne(context: CertificateDeps, name: string): Promise<void> {
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
    store.findCertificateName(db, name) ?? { ...UNTRIED, name, domainId: wantedBy(context, name)?.domainId ?? null };
  // What nobody wants any more when it comes is not kept.
  const { domainId } = state();
  const isWanted = (): boolean => domainId === null || wantedBy(context, name) !== null;
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
    const chain = readOrdered(context, ordered, name);
    const window = chain.facts.renewalId === null ? null : await authority.renewal(chain.facts.renewalId).catch(() => null);
    const now = clock.now();
    const proposed = window ? timeInWindow(window, random()) : renewalTime(chain.facts, random());
    const renewAt = Math.max(proposed, notBeforeNext(chain.facts, now));
    await db.commit(() => {
      if (!isWanted()) return;
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
  } catch (fault) {
    // Whatever it was, the name waits before it is tried again, and keeps no other name waiting.
    const error = fault instanceof AuthorityRefusal ? fault : new AuthorityRefusal(`it failed; see the service’s log for details.`);
    if (error !== fault) context.log.error({ name, fault: faultText(fault) }, 'a certificate could not be fetched');
    const now = clock.now();
    const before = state();
    const failures = before.failures + 1;
    const nextAt = nextTry(now, failures, random(), error.retryAfterMs);
    await db.commit(() => {
      if (!isWanted()) return;
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
    throw new Problem('authority', `No certificate for ${name}: ${error.message}`, 'Fix the cause, and fetch it again.');
  } finally {
    fetching.delete(name);
  }
}

/** What an authority gave, if it is a certificate for that name and key that counts now. Throws AuthorityRefusal. */
function readOrdered({ certificates, clock }: CertificateDeps, ordered: { chain: string; key: string }, name: string): Chain {
  let chain: Chain;
  try {
    chain = readChain(ordered.chain, certificates.roots, createPrivateKey(ordered.key));
  } catch (error) {
    throw new AuthorityRefusal(`the authority’s answer is not a certificate for the requested key: ${firstLine(error)}.`);
  }
  const { names, notBefore, notAfter } = chain.facts;
  if (!names.some((one) => coversName(one, name)))
    throw new AuthorityRefusal(`the authority issued a certificate for ${names.slice(0, 3).join(', ') || 'no name'}.`);
  if (notAfter <= clock.now()) throw new AuthorityRefusal('the authority issued an expired certificate.');
  if (notBefore > clock.now() + DAY_MS) throw new AuthorityRefusal('the authority issued a certificate that is not valid yet.');
  return chain;
}

const DAY_MS = 24 * 3_600_000;
const firstLine = (error: unknown): string =>
  String(error instanceof Error ? error.message : error)
    .split('\n', 1)[0]
    ?.slice(0, 200) ?? '';

const domainOf = (context: CertificateDeps, name: string): string | null => wantedBy(context, name)?.domain ?? null;

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
  const update = (): ReturnType<typeof context.dns.update> =>
    context.dns.update(
      { server: zone.server, port: zone.port },
      zone.name,
      { name: zone.keyName, algorithm: zone.algorithm as never, secret },
      [{ action, type: 'TXT', name: at, value }],
      CHALLENGE_TTL,
    );
  let result = await update();
  for (let tries = 1; result.kind === 'changed' && tries < 5; tries += 1) result = await update();
  if (result.kind !== 'done') throw new AuthorityRefusal(`the zone ${zone.name} could not be updated: ${result.reason}.`);
}
