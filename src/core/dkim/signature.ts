import { type DomainName, domainName } from '../address/domain.ts';
import { domainSide } from '../address/sides.ts';
import type { Field } from '../message/fields.ts';
import type { Canonicalisation } from './canonical.ts';
import { parseTags, withoutSpace } from './tags.ts';

export type Algorithm = 'rsa-sha256' | 'ed25519-sha256';

/** A DKIM-Signature field, read (RFC 6376 §3.5). */
export interface Signature {
  field: Field;
  algorithm: Algorithm;
  domain: DomainName;
  selector: string;
  /** The domain of i=. */
  identityDomain: DomainName;
  /** Names of the signed fields in lower case, in their order. */
  signed: string[];
  headerHow: Canonicalisation;
  bodyHow: Canonicalisation;
  bodyHash: string;
  /** l=: octets of the canonical body that are signed; null for all. */
  length: number | null;
  /** x=, seconds since 1970. */
  expires: number | null;
  value: Buffer;
}

export type SignatureParse =
  | { kind: 'ok'; signature: Signature }
  | { kind: 'invalid'; domain: string; selector: string; algorithm: string; value: string; reason: string };

/** Nobody signs more; names that no field has cost the verifier all the same. */
const MOST_SIGNED = 2000;

const REQUIRED = ['v', 'a', 'b', 'bh', 'd', 'h', 's'];
const isCanonicalisation = (text: string | undefined): text is Canonicalisation => text === 'simple' || text === 'relaxed';

export function parseSignature(field: Field): SignatureParse {
  const parsed = parseTags(field.value);
  const tags = parsed.kind === 'ok' ? parsed.tags : new Map<string, string>();
  const domain = (tags.get('d') ?? '').toLowerCase();
  const selector = tags.get('s') ?? '';
  const algorithm = (tags.get('a') ?? '').toLowerCase();
  const value = withoutSpace(tags.get('b') ?? '');
  const invalid = (reason: string): SignatureParse => ({ kind: 'invalid', domain, selector, algorithm, value, reason });
  if (parsed.kind === 'invalid') return invalid(`signature unreadable: ${parsed.reason}`);
  const missing = REQUIRED.find((name) => !tags.get(name));
  if (missing !== undefined) return invalid(`the tag ${missing}= is missing`);
  if (tags.get('v') !== '1') return invalid('unknown signature version');
  // RFC 8301 §3.1: rsa-sha1 must not be accepted.
  if (algorithm !== 'rsa-sha256' && algorithm !== 'ed25519-sha256') return invalid(`the algorithm ${algorithm} is not accepted`);
  const methods = (tags.get('q') ?? 'dns/txt').split(':').map((one) => withoutSpace(one).toLowerCase());
  if (!methods.includes('dns/txt')) return invalid('q= names no supported query method');
  const signed = (tags.get('h') ?? '').split(':').map((name) => withoutSpace(name).toLowerCase());
  if (signed.length > MOST_SIGNED) return invalid(`h= names more than ${MOST_SIGNED} fields`);
  if (!signed.includes('from')) return invalid('From is not signed');
  // §3.5: a domain-name has no final dot, and i= an @.
  const signer = domain.endsWith('.') ? null : domainName(domain);
  if (signer === null) return invalid('d= is not a domain name');
  const identity = tags.get('i') ?? `@${domain}`;
  if (!identity.includes('@')) return invalid('i= holds no @');
  const identityDomain = identity.endsWith('.') ? null : domainName(domainSide(identity));
  if (identityDomain === null) return invalid('i= holds no domain name');
  if (identityDomain !== signer && !identityDomain.endsWith(`.${signer}`)) return invalid('i= is not below d=');
  const [headerHow, bodyHow = 'simple', ...more] = (tags.get('c') ?? 'simple').toLowerCase().split('/');
  if (more.length > 0) return invalid('c= has more than two parts');
  if (!isCanonicalisation(headerHow) || !isCanonicalisation(bodyHow)) return invalid('unknown canonicalisation');
  const numbers = { l: tags.get('l'), t: tags.get('t'), x: tags.get('x') };
  for (const [name, text] of Object.entries(numbers))
    if (text !== undefined && !/^\d{1,15}$/.test(text)) return invalid(`the tag ${name}= is not a number`);
  const expires = numbers.x === undefined ? null : Number(numbers.x);
  if (expires !== null && numbers.t !== undefined && expires <= Number(numbers.t)) return invalid('x= is not after t=');
  return {
    kind: 'ok',
    signature: {
      field,
      algorithm,
      domain: signer,
      selector,
      identityDomain,
      signed,
      headerHow,
      bodyHow,
      bodyHash: withoutSpace(tags.get('bh') ?? ''),
      length: numbers.l === undefined ? null : Number(numbers.l),
      expires,
      value: Buffer.from(value, 'base64'),
    },
  };
}
