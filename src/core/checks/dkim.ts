import { type KeyRecord, parseKeyRecord } from '../dkim/key-record.ts';
import { parseTags, withoutSpace } from '../dkim/tags.ts';
import { verifies } from '../dkim/verify.ts';
import { type Lookup, lookUp } from '../records/answers.ts';
import { keyName, keyRecord } from '../records/sheet.ts';
import type { KeyState, KeyType } from '../vocabulary.ts';
import { type Finding, type FindingDraft, type SubjectFacts, settledFindings, unanswered } from './finding.ts';
import { isWildcard } from './wildcard.ts';

/** RFC 8301 §3.2: what signers are to use, and what verifiers take at all. */
const FULL_LENGTH = 2048;
const SHORTEST = 1024;

/** A key of the domain, as it should be published. */
export interface CheckedKey {
  selector: string;
  type: KeyType;
  publicKey: string;
  state: KeyState;
  /** A signature that the private key has made, to be tried with the published one. */
  proof: { input: Buffer; signature: Buffer } | null;
}

/** Selectors that people type instead of the one they were given. */
const USUAL_SELECTORS = ['default', 'dkim', 'mail', 'selector1', 's1'];

export interface DkimFacts {
  domain: string;
  keys: readonly CheckedKey[];
  /** A label that nobody has. */
  sibling: string;
  /** Whether its mail leaves from here, and so must be signed here. */
  isSender: boolean;
}

/** Is each key that signs, or is to sign, the key that is published? */
export async function checkDkim({ domain, keys, sibling, isSender }: DkimFacts, lookup: Lookup): Promise<Finding[]> {
  const current = keys.filter((key) => key.state === 'active');
  const [first] = current;
  const facts: SubjectFacts = {
    subject: 'dkim',
    name: first ? keyName(first.selector, domain) : `_domainkey.${domain}`,
    expected: current.map((key) => keyRecord(domain, key).value),
    seen: [],
  };
  const faults: FindingDraft[] = [];
  for (const key of keys) {
    const name = keyName(key.selector, domain);
    const answer = await lookUp(lookup, name, 'TXT');
    if (answer.kind === 'failed') {
      if (key.state === 'active') return unanswered({ ...facts, name }, answer.reason);
      continue;
    }
    // What a wildcard gives to every name is no key that somebody has published here.
    const holdsKey =
      answer.kind === 'found' && (answer.values.some(isKeyLike) || !(await isWildcard(name, 'TXT', answer, sibling, lookup)));
    const seen = answer.kind === 'found' && holdsKey ? answer.values : [];
    if (key.state === 'active') facts.seen = [...facts.seen, ...seen];
    const own = { name, expected: key.state === 'retired' ? [] : [keyRecord(domain, key).value], seen };
    const fault =
      key.state === 'active' || key.state === 'prepared'
        ? await judgeKey({ domain, key, keys, sibling }, seen, lookup)
        : judgeOldKey(key, seen);
    if (fault)
      faults.push({
        ...own,
        ...(key.state === 'prepared' ? asPrepared(key, fault) : fault),
        ...(key.state === 'retired' ? {} : { publish: [keyRecord(domain, key)] }),
      });
  }
  if (!first && isSender)
    faults.push({
      code: 'dkim-no-key',
      verdict: 'missing',
      headline: 'No key signs for this domain.',
      byProvider: `Prepare one (tenedor key prepare ${domain}), publish it, and activate it.`,
    });
  if (!isSender)
    return settledFindings(facts, faults, {
      code: 'dkim-elsewhere',
      verdict: 'good',
      headline: 'No mail is sent as this domain from here, so nothing is signed; whether its own server signs cannot be seen from here.',
    });
  return settledFindings(facts, faults, {
    code: 'dkim-good',
    verdict: 'good',
    headline: current.length === 1 ? 'The published key is the key that signs.' : 'The published keys are the keys that sign.',
  });
}

/** What does not work yet for a key that does not sign yet is no harm. */
function asPrepared(key: CheckedKey, fault: FindingDraft): FindingDraft {
  const missing = fault.verdict === 'missing';
  return {
    ...fault,
    code: missing ? 'dkim-prepared-missing' : 'dkim-prepared-wrong',
    verdict: 'weak',
    harmless: true,
    headline: missing ? `The prepared key ${key.selector} is not published yet.` : `The prepared key ${key.selector}: ${fault.headline}`,
    byProvider: 'Activate it once the check passes.',
  };
}

function judgeOldKey(key: CheckedKey, seen: readonly string[]): FindingDraft | null {
  const there = seen.some((text) => parseKeyRecord(text).kind !== 'revoked');
  if (key.state === 'retired' && there)
    return {
      code: 'dkim-retired-published',
      verdict: 'weak',
      harmless: true,
      headline: `The retired key ${key.selector} is still published.`,
      remedy: `Remove the TXT record at the name above; no messages with its signature are in transit any more.`,
    };
  if (key.state === 'retiring' && !there)
    return {
      code: 'dkim-retiring-gone',
      verdict: 'weak',
      headline: `The former key ${key.selector} is no longer published, but messages signed with it may still be in transit.`,
      remedy: 'Publish it again until it is retired.',
    };
  return null;
}

/** The text with which a proof has verified: it does so again. */
const provenBy = new WeakMap<NonNullable<CheckedKey['proof']>, string>();

interface KeyFacts {
  domain: string;
  key: CheckedKey;
  keys: readonly CheckedKey[];
  sibling: string;
}

/** Whether a text is meant as a key: nobody gives one to every name. */
const isKeyLike = (text: string): boolean => /(^|[;\s"])p\s*=/.test(text);

async function judgeKey(facts: KeyFacts, seen: readonly string[], lookup: Lookup): Promise<FindingDraft | null> {
  const { domain, key } = facts;
  if (seen.length === 0) return whereElse(facts, lookup);
  if (seen.length > 1)
    return {
      code: 'dkim-several',
      verdict: 'wrong',
      headline: `${seen.length} records are published at one selector; receivers may use any of them.`,
      remedy: 'Remove them all, and publish the one below.',
    };
  const text = seen[0] ?? '';
  const published = parseKeyRecord(text);
  const broken = judgeText(text, key, published);
  if (broken || published.kind !== 'key') return broken;
  if (key.proof && provenBy.get(key.proof) !== text && !verifies(published, key.proof.input, key.proof.signature))
    return {
      code: 'dkim-does-not-verify',
      verdict: 'wrong',
      headline: 'A signature made with our key does not verify with the published one.',
      byProvider: 'Prepare a new key, publish it and activate it: the stored pair does not match.',
    };
  if (key.proof) provenBy.set(key.proof, text);
  if (published.testing)
    return {
      code: 'dkim-testing',
      verdict: 'weak',
      headline: 'The key is marked as a test (t=y); receivers may ignore the signatures.',
      remedy: 'Publish the record without “t=y”, as below.',
    };
  if (published.type === 'rsa' && published.bits < FULL_LENGTH)
    return {
      code: 'dkim-short-key',
      verdict: published.bits < SHORTEST ? 'wrong' : 'weak',
      headline: `The key has ${published.bits} bits; ${FULL_LENGTH} are recommended.`,
      byProvider: `Prepare a new key (tenedor key prepare ${domain}), publish it and activate it.`,
    };
  return null;
}

/** What the record's text is, when it is not our key. */
function judgeText(text: string, key: CheckedKey, published: KeyRecord): FindingDraft | null {
  const tags = parseTags(text);
  const part = tags.kind === 'ok' ? withoutSpace(tags.tags.get('p') ?? '') : '';
  if (published.kind === 'revoked')
    return {
      code: 'dkim-revoked',
      verdict: 'wrong',
      headline: 'The published key is revoked: its p= is empty.',
      remedy: 'Publish the record below in its place.',
    };
  if (/["“”]/.test(text) || /^\s*\(/.test(text))
    return {
      code: 'dkim-quotes',
      verdict: 'wrong',
      headline: 'The published record contains literal quotes.',
      remedy: 'Enter the value as one string without quotes, as below; the form adds them.',
    };
  if (part !== key.publicKey && part.length >= 32 && key.publicKey.startsWith(part))
    return {
      code: 'dkim-cut-short',
      verdict: 'wrong',
      headline: `The published key is truncated: ${part.length} of ${key.publicKey.length} characters.`,
      remedy: 'Publish the whole value below.',
    };
  if (published.kind === 'invalid')
    return {
      code: 'dkim-broken',
      verdict: 'wrong',
      headline: `The published record can’t be used: ${published.reason}.`,
      remedy: 'Publish the record below in its place.',
    };
  if (published.publicKey !== key.publicKey)
    return {
      code: 'dkim-other-key',
      verdict: 'wrong',
      headline: 'The published key is not the one that signs.',
      remedy: 'Publish the record below in its place.',
    };
  return null;
}

/** Nothing is at the selector: did it land somewhere near? */
async function whereElse({ domain, key, keys, sibling }: KeyFacts, lookup: Lookup): Promise<FindingDraft> {
  const name = keyName(key.selector, domain);
  const holdsOurs = (text: string): boolean => withoutSpace(text).includes(key.publicKey.slice(0, 100));
  const at = (place: string, texts: string[]): string[] => texts.map((text) => `at ${place}: ${text}`);
  const doubled = `${name}.${domain}`;
  const beside = await lookUp(lookup, doubled, 'TXT');
  if (beside.kind === 'found' && !(await isWildcard(doubled, 'TXT', beside, sibling, lookup)))
    return {
      code: 'dkim-doubled',
      verdict: 'wrong',
      headline: `The key is published under a doubled name, ${doubled}.`,
      seen: at(doubled, beside.values),
      remedy: `The DNS form appends the zone: enter the short name below. Then remove the misplaced record.`,
    };
  const places = [
    ...keys.filter((other) => other.selector !== key.selector).map((other) => keyName(other.selector, domain)),
    `${key.selector}.${domain}`,
    `_domainkey.${domain}`,
    ...USUAL_SELECTORS.map((selector) => keyName(selector, domain)),
  ];
  for (const place of places) {
    const answer = await lookUp(lookup, place, 'TXT');
    if (answer.kind === 'found' && answer.values.some(holdsOurs))
      return {
        code: 'dkim-other-selector',
        verdict: 'wrong',
        headline: `Our key is published at ${place}, but signatures name the selector ${key.selector}.`,
        seen: at(place, answer.values.filter(holdsOurs)),
        remedy: 'Publish the record under the name below.',
      };
  }
  return {
    code: 'dkim-none',
    verdict: 'missing',
    headline: `No key is published for the selector ${key.selector}.`,
    remedy: 'Publish the TXT record below.',
  };
}
