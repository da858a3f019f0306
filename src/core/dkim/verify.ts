import { createHash, verify } from 'node:crypto';
import { bodyOffset, type Field, fieldsNamed, parseFields } from '../message/fields.ts';
import type { Lookup } from '../records/answers.ts';
import { type Canonicalisation, canonicalBody, canonicalField } from './canonical.ts';
import { parseKeyRecord } from './key-record.ts';
import { parseTags, withoutSpace } from './tags.ts';

export interface DkimOutcome {
  result: 'pass' | 'fail' | 'permerror' | 'temperror' | 'neutral';
  domain: string;
  selector: string;
  reason: string;
}

/** More signatures than this are not looked at: each costs a look-up and a public-key operation. */
const MOST_SIGNATURES = 8;

/** Verifies the DKIM signatures of a message (RFC 6376 §6). An empty list means that there is none. */
export async function verifyDkim(message: Buffer, lookup: Lookup, now: number): Promise<DkimOutcome[]> {
  const fields = parseFields(message);
  const signatures = fieldsNamed(fields, 'DKIM-Signature').slice(0, MOST_SIGNATURES);
  const outcomes: DkimOutcome[] = [];
  for (const signature of signatures) outcomes.push(await verifyOne(message, fields, signature, lookup, now));
  return outcomes;
}

async function verifyOne(message: Buffer, fields: Field[], signature: Field, lookup: Lookup, now: number): Promise<DkimOutcome> {
  const parsed = parseTags(signature.value);
  const tags = parsed.kind === 'ok' ? parsed.tags : new Map<string, string>();
  const domain = (tags.get('d') ?? '').toLowerCase();
  const selector = tags.get('s') ?? '';
  const outcome = (result: DkimOutcome['result'], reason: string): DkimOutcome => ({ result, domain, selector, reason });
  if (parsed.kind === 'invalid') return outcome('permerror', `signature unreadable: ${parsed.reason}`);
  for (const name of ['v', 'a', 'b', 'bh', 'd', 'h', 's']) if (!tags.get(name)) return outcome('permerror', `the tag ${name}= is missing`);
  if (tags.get('v') !== '1') return outcome('permerror', 'unknown signature version');
  const algorithm = tags.get('a') ?? '';
  // RFC 8301 §3.1: rsa-sha1 must not be accepted.
  if (algorithm !== 'rsa-sha256' && algorithm !== 'ed25519-sha256')
    return outcome('permerror', `the algorithm ${algorithm} is not accepted`);
  const expires = Number(tags.get('x') ?? Number.NaN);
  if (expires < now / 1000) return outcome('fail', 'signature expired');
  const signed = (tags.get('h') ?? '').split(':').map((name) => withoutSpace(name).toLowerCase());
  if (!signed.includes('from')) return outcome('permerror', 'From is not signed');
  const identity = tags.get('i') ?? `@${domain}`;
  const identityDomain = identity.slice(identity.lastIndexOf('@') + 1).toLowerCase();
  if (identityDomain !== domain && !identityDomain.endsWith(`.${domain}`)) return outcome('permerror', 'i= is not below d=');
  const [headerHow, bodyHow = 'simple'] = (tags.get('c') ?? 'simple').split('/');
  if (!isCanonicalisation(headerHow) || !isCanonicalisation(bodyHow)) return outcome('permerror', 'unknown canonicalisation');

  let body = canonicalBody(message.subarray(bodyOffset(message)), bodyHow);
  const length = tags.get('l');
  if (length !== undefined) {
    if (!/^\d{1,15}$/.test(length) || Number(length) > body.length) return outcome('permerror', 'l= is longer than the body');
    body = body.subarray(0, Number(length));
  }
  if (createHash('sha256').update(body).digest('base64') !== withoutSpace(tags.get('bh') ?? ''))
    return outcome('fail', 'body hash differs');

  const published = await lookup(`${selector}._domainkey.${domain}`, 'TXT');
  if (published.kind === 'failed') return outcome('temperror', `no answer for the key: ${published.reason}`);
  if (published.kind === 'none') return outcome('permerror', 'no key is published');
  const record = parseKeyRecord(published.values[0] ?? '');
  if (record.kind === 'revoked') return outcome('permerror', 'key revoked');
  if (record.kind === 'invalid') return outcome('permerror', `key unusable: ${record.reason}`);
  if (record.type !== algorithm.split('-')[0]) return outcome('permerror', 'key type and algorithm differ');
  // RFC 8301 §3.2
  if (record.type === 'rsa' && record.bits < 1024) return outcome('permerror', `key of ${record.bits} bits is too short`);
  if (record.strict && identityDomain !== domain) return outcome('permerror', 'the key forbids subdomains');

  const input = Buffer.from(signedText(fields, signature, signed, headerHow), 'latin1');
  const value = Buffer.from(withoutSpace(tags.get('b') ?? ''), 'base64');
  const good =
    record.type === 'rsa'
      ? verify('sha256', input, record.key, value)
      : // RFC 8463 §3: Ed25519 signs the SHA-256 of the input.
        verify(null, createHash('sha256').update(input).digest(), record.key, value);
  return good ? outcome('pass', 'good signature') : outcome('fail', 'signature does not verify');
}

const isCanonicalisation = (text: string | undefined): text is Canonicalisation => text === 'simple' || text === 'relaxed';

/** The text under the signature: the named fields bottom up, then the signature field without its b= value (RFC 6376 §3.7). */
function signedText(fields: Field[], signature: Field, names: string[], how: Canonicalisation): string {
  const left = new Map<string, Field[]>();
  const lines: string[] = [];
  for (const name of names) {
    if (!left.has(name)) left.set(name, fieldsNamed(fields, name));
    const field = left.get(name)?.pop();
    if (field) lines.push(canonicalField(field.raw, how));
  }
  const bare = signature.raw.replace(/((?:^|[;:])[ \t\r\n]*b[ \t\r\n]*=)[^;]*/, '$1');
  return [...lines, canonicalField(bare, how)].join('\r\n');
}
