import { isSelector } from '../../core/dkim/selector.ts';
import { keyName, keyRecord, type SheetRecord } from '../../core/records/sheet.ts';
import { GIVE_UP_AFTER } from '../../core/retry/schedule.ts';
import type { KeyType } from '../../core/vocabulary.ts';
import { hurryCheck } from '../../store/checks.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/keys.ts';
import { badInput, Problem } from '../base/problem.ts';
import { earlier } from '../base/service-clock.ts';
import { requireDomain } from '../directory/domains.ts';
import { newKeyPair, newSelector, readPrivateKey } from '../directory/signing-keys.ts';
import { check } from './checks.ts';
import type { DnsDeps } from './deps.ts';

/** Our own queue gives up after this, and other servers' queues keep what they took about as long again. */
export const RETIRE_AFTER = GIVE_UP_AFTER + 2 * 24 * 3600_000;
const MOST_KEYS = 20;

export interface KeyView extends store.DkimKey {
  /** What to publish for it. */
  record: SheetRecord;
  /** What is to be done about it, in words; empty when nothing is. */
  next: string;
}

export function listKeys(context: DnsDeps, name: string): KeyView[] {
  const domain = requireDomain(context, name);
  return store
    .listKeys(context.db, domain.id)
    .map((key) => ({ ...key, record: keyRecord(domain.name, key), next: nextWords(domain.name, key) }));
}

function nextWords(domain: string, key: store.DkimKey): string {
  switch (key.state) {
    case 'prepared':
      return `Publish its record, then: tenedor key activate ${domain} ${key.selector}`;
    case 'retiring':
      return `Leave its record published until ${new Date(key.retireAt ?? 0).toISOString().slice(0, 10)}: messages with its signature may still be in transit.`;
    case 'retired':
      return `Remove ${keyName(key.selector, domain)} from DNS.`;
    default:
      return '';
  }
}

export interface NewKeyInput {
  type: KeyType;
  selector: string | null;
  /** A private key in PEM to import; null to make a new pair. */
  pem: string | null;
}

/** Makes or takes in a pair that does not sign yet. */
export async function prepareKey(context: DnsDeps, name: string, input: NewKeyInput): Promise<KeyView> {
  const { db, clock } = context;
  const domain = requireDomain(context, name);
  const selector = input.selector?.toLowerCase() ?? null;
  if (selector !== null && !isSelector(selector))
    throw badInput('selector', `“${selector.slice(0, 80)}” is not a selector.`, 'Use letters, digits and hyphens, like k20261123.');
  if (input.pem !== null && selector === null)
    throw badInput('selector', 'An imported key needs its selector.', 'Name it: --selector SELECTOR');
  const pair = input.pem === null ? await newKeyPair(input.type) : readPrivateKey(input.pem);
  if (pair === null)
    throw badInput(
      'pem',
      'The file is not a private RSA or Ed25519 key in PEM.',
      'Give a file that begins with “-----BEGIN … PRIVATE KEY-----”.',
    );
  const taken = await db.commit(() => {
    requireSame(context, domain);
    const keys = store.listKeys(db, domain.id);
    const used = (one: string): boolean => keys.some((key) => key.selector === one);
    if (selector !== null && used(selector))
      throw new Problem(
        'exists-already',
        `${domain.name} already has a key with the selector ${selector}.`,
        `See it with: tenedor key list ${domain.name}`,
        'selector',
      );
    if (keys.length >= MOST_KEYS)
      throw new Problem(
        'plan-full',
        `${domain.name} already has ${MOST_KEYS} keys.`,
        'Remove retired ones: tenedor key remove DOMAIN SELECTOR',
      );
    const now = clock.now();
    const base = newSelector(pair.type, now);
    // A second key of a day gets a letter.
    const chosen =
      selector ?? [base, ...'bcdefghijklmnopqrstu'].map((one) => (one === base ? base : base + one)).find((one) => !used(one)) ?? base;
    store.addKey(db, domain.id, { ...pair, privateKey: context.keyFile.seal(pair.privateKey), selector: chosen, state: 'prepared' }, now);
    hurryCheck(db, domain.id);
    const data = { selector: chosen, type: pair.type, imported: input.pem !== null };
    addEntry(db, { at: now, journeyId: null, domain: domain.name, event: 'key-prepared', data });
    return chosen;
  });
  return requireKey(context, name, taken);
}

/** The domain may have been removed while a key was made or looked for; another one of its name is not meant. */
function requireSame(context: DnsDeps, { id, name }: { id: number; name: string }): void {
  if (requireDomain(context, name).id !== id)
    throw new Problem('in-use', `${name} was removed and added again in the meantime.`, 'Check its current state, and try again.');
}

function requireKey(context: DnsDeps, name: string, selector: string): KeyView {
  const key = listKeys(context, name).find((one) => one.selector === selector.toLowerCase());
  if (!key)
    throw new Problem(
      'not-found',
      `${name} has no key with the selector ${selector.slice(0, 80)}.`,
      `See its keys with: tenedor key list ${name}`,
    );
  return key;
}

/**
 * Lets a prepared key sign, once receivers can find it; the one of its type that signed until now stays published until
 * nothing that it signed can be under way. `force` does not look at what is published, and the journal says so.
 */
export async function activateKey(context: DnsDeps, name: string, selector: string, force: boolean): Promise<KeyView> {
  const { db, clock } = context;
  const domain = requireDomain(context, name);
  const key = requireKey(context, name, selector);
  if (key.state !== 'prepared')
    throw new Problem(
      'in-use',
      `The key ${key.selector} is ${key.state}; only a prepared one can be activated.`,
      `Prepare a new one: tenedor key prepare ${domain.name}`,
    );
  if (!force) await requirePublished(context, domain.name, key);
  await db.commit(() => {
    requireSame(context, domain);
    const now = clock.now();
    for (const other of store.listKeys(db, domain.id))
      if (other.state === 'active' && other.type === key.type) store.setKeyState(db, other.id, 'retiring', now, now + RETIRE_AFTER);
    store.setKeyState(db, key.id, 'active', now);
    hurryCheck(db, domain.id);
    addEntry(db, { at: now, journeyId: null, domain: domain.name, event: 'key-activated', data: { selector: key.selector, force } });
  });
  return requireKey(context, name, key.selector);
}

/** The published half must be seen to be right, at the source and in the resolvers. */
async function requirePublished(context: DnsDeps, domain: string, key: KeyView): Promise<void> {
  const { findings } = await check(context, domain);
  const name = keyName(key.selector, domain);
  const fault = findings.find(
    (one) =>
      one.subject === 'dkim' &&
      (one.name === name ||
        one.verdict === 'waiting' ||
        one.verdict === 'unknown' ||
        one.code === 'dkim-disagree' ||
        one.code === 'dkim-late'),
  );
  if (fault && fault.verdict !== 'good')
    throw new Problem(
      'in-use',
      `The key ${key.selector} is not ready to sign: ${fault.headline}`,
      `See the record to publish: tenedor check ${domain}. To activate it anyway: --force`,
    );
  // Of a domain that nobody may send as, keys are not looked at.
  if (findings.some((one) => one.code === 'dkim-elsewhere'))
    throw new Problem(
      'in-use',
      `Nobody may send as ${domain} from here, so its keys are not checked.`,
      'Set the role home, allow a network to send as it, or use --force.',
    );
}

/** Takes a key out of use. An active one needs another active one beside it; one that may still be under way needs `force`. */
export async function retireKey(context: DnsDeps, name: string, selector: string, force: boolean): Promise<KeyView> {
  const { db, clock } = context;
  const domain = requireDomain(context, name);
  await db.commit(() => {
    const key = requireKey(context, name, selector);
    const now = clock.now();
    if (key.state === 'retired') throw new Problem('in-use', `The key ${key.selector} is already retired.`, key.next);
    if (key.state === 'active' && !store.listKeys(db, domain.id).some((other) => other.state === 'active' && other.id !== key.id))
      throw new Problem(
        'in-use',
        `The key ${key.selector} is the only one that signs for ${domain.name}.`,
        `Prepare and activate another first: tenedor key prepare ${domain.name}`,
      );
    const early = key.state === 'active' || (key.state === 'retiring' && (key.retireAt ?? 0) > now);
    // An active key first goes through the time in which its signatures may be under way.
    if (early && !force) {
      if (key.state === 'retiring')
        throw new Problem(
          'in-use',
          `Messages signed with ${key.selector} may still be in transit.`,
          `${key.next} To retire it at once: --force`,
        );
      store.setKeyState(db, key.id, 'retiring', now, now + RETIRE_AFTER);
    } else store.setKeyState(db, key.id, 'retired', now);
    hurryCheck(db, domain.id);
    const event = early && !force ? 'key-retiring' : 'key-retired';
    addEntry(db, { at: now, journeyId: null, domain: domain.name, event, data: { selector: key.selector, force: early && force } });
  });
  return requireKey(context, name, selector);
}

/** Forgets a key that never signed or no longer does. */
export async function removeKey(context: DnsDeps, name: string, selector: string): Promise<void> {
  const { db, clock } = context;
  const domain = requireDomain(context, name);
  await db.commit(() => {
    const key = requireKey(context, name, selector);
    if (key.state !== 'prepared' && key.state !== 'retired')
      throw new Problem(
        'in-use',
        `The key ${key.selector} is ${key.state}.`,
        `Retire it first: tenedor key retire ${domain.name} ${key.selector}`,
      );
    store.removeKey(db, key.id);
    hurryCheck(db, domain.id);
    addEntry(db, { at: clock.now(), journeyId: null, domain: domain.name, event: 'key-removed', data: { selector: key.selector } });
  });
}

/** Retires the keys whose time has come; from then on the check reminds of those that are still published. */
export async function retireDueKeys({ db, clock }: DnsDeps): Promise<void> {
  const due = store.dueRetirements(db, earlier(clock));
  if (due.length === 0) return;
  await db.commit(() => {
    for (const { id, selector, domain, domainId } of due) {
      store.setKeyState(db, id, 'retired', clock.now());
      hurryCheck(db, domainId);
      addEntry(db, { at: clock.now(), journeyId: null, domain, event: 'key-retired', data: { selector, force: false } });
    }
  });
}
