import { createHash, type KeyObject, verify } from 'node:crypto';
import { isAligned } from '../dmarc/aligned.ts';
import { authorsOf } from '../message/authors.ts';
import { bodyOffset, type Field, fieldsNamed, parseFields } from '../message/fields.ts';
import { type Breathe, breathe, inPieces } from '../pieces.ts';
import { type Answer, type Lookup, lookUp } from '../records/answers.ts';
import type { KeyType } from '../vocabulary.ts';
import { BodyHash } from './body-hash.ts';
import { type Canonicalisation, canonicalField } from './canonical.ts';
import { parseKeyRecord } from './key-record.ts';
import { parseSignature, type Signature, type SignatureParse } from './signature.ts';

export interface DkimOutcome {
  /** As RFC 8601 §2.7.1 spells them. */
  result: 'pass' | 'fail' | 'policy' | 'permerror' | 'temperror' | 'neutral';
  domain: string;
  selector: string;
  algorithm: string;
  /** The beginning of b=, which tells signatures of one domain apart (RFC 6008). */
  mark: string;
  reason: string;
  /** Of the RSA key that it verifies with; null for another one, or none. */
  rsaBits: number | null;
  /** Whether l= leaves some of the body unsigned (RFC 6376 §8.2): then it is no pass. */
  isPartOnly: boolean;
  /** The fields that it covers, in lower case. */
  covers: readonly string[];
}

type Judged = Pick<DkimOutcome, 'result' | 'reason'> & { rsaBits?: number | null; isPartOnly?: boolean };

/** Each signature costs a look-up and a public-key operation: those of the author's organisation come first, and further ones are named only. */
const MOST_SIGNATURES = 8;
/** Further signature fields are not even read. */
const MOST_READ = 64;
/** More records than this at one selector are not tried. */
const MOST_KEYS = 4;
/** Bits. */
const LONGEST_KEY = 8192;
/** A header beyond this is no mail's; nothing of it is verified. */
const LARGEST_HEADER = 1024 * 1024;

/** Verifies all DKIM signatures of a message whose octets come piece by piece (RFC 6376 §6). */
export class DkimVerifier {
  private header: Buffer = Buffer.alloc(0);
  private fields: Field[] | null = null;
  private signatures: SignatureParse[] = [];
  /** Those that are verified. */
  private chosen = new Set<SignatureParse>();
  private readonly bodies = new Map<Canonicalisation, BodyHash>();
  /** Fields in relaxed form: several signatures cover the same. */
  private readonly canonical = new Map<Field, string>();

  push(bytes: Buffer): void {
    if (this.fields !== null) {
      for (const body of this.bodies.values()) body.push(bytes);
      return;
    }
    if (this.header.length > LARGEST_HEADER) return;
    this.header = this.header.length === 0 ? bytes : Buffer.concat([this.header, bytes]);
    const isWhole = this.header.indexOf('\r\n\r\n') >= 0 || this.header.indexOf('\r\n') === 0;
    if (isWhole) this.openBody();
  }

  /** One outcome a signature, in their order; none when there is no signature. */
  async finish(lookup: Lookup, now: number, pause: Breathe = breathe): Promise<DkimOutcome[]> {
    if (this.fields === null) this.openBody();
    const hashes = new Map([...this.bodies].map(([how, body]) => [how, body.finish()]));
    // All at once: however many name servers are silent, they cost their time together.
    const keys = new Map(
      [...this.chosen].flatMap((parse) => {
        if (parse.kind === 'invalid') return [];
        const { selector, domain } = parse.signature;
        const key = lookUp(lookup, `${selector}._domainkey.${domain}`, 'TXT');
        key.catch(() => {});
        return [[parse as SignatureParse, key] as const];
      }),
    );
    const outcomes: DkimOutcome[] = [];
    for (const parse of this.signatures) {
      const one = parse.kind === 'ok' ? parse.signature : parse;
      const mark = (Buffer.isBuffer(one.value) ? one.value.toString('base64') : one.value).slice(0, 8);
      const { domain, selector, algorithm } = one;
      const judged = await this.outcomeOf(parse, hashes, keys.get(parse), now);
      const covers = parse.kind === 'ok' ? parse.signature.signed : [];
      outcomes.push({ rsaBits: null, isPartOnly: false, ...judged, domain, selector, algorithm, mark, covers });
      // A public-key operation over a long header takes its time.
      if (this.chosen.has(parse)) await pause();
    }
    return outcomes;
  }

  private async outcomeOf(
    parse: SignatureParse,
    hashes: Map<Canonicalisation, (length: number | null) => string | null>,
    key: Promise<Answer<'TXT'>> | undefined,
    now: number,
  ): Promise<Judged> {
    if (parse.kind === 'invalid') return { result: 'permerror', reason: parse.reason };
    if (!key) return { result: 'policy', reason: `not verified: more than ${MOST_SIGNATURES} signatures` };
    const { signature } = parse;
    const judged = this.judge(signature, hashes.get(signature.bodyHow)?.(signature.length) ?? null, await key, now);
    const whole = this.bodies.get(signature.bodyHow)?.octets ?? 0;
    // RFC 8601 §2.7.1: what is good and not acceptable is `policy`. Anybody could have added to such a message.
    if (judged.result !== 'pass' || signature.length === null || signature.length >= whole) return judged;
    return { ...judged, result: 'policy', reason: `l= signs ${signature.length} of ${whole} octets of the body`, isPartOnly: true };
  }

  private openBody(): void {
    this.fields = parseFields(this.header);
    this.signatures = fieldsNamed(this.fields, 'DKIM-Signature').slice(0, MOST_READ).map(parseSignature);
    this.chosen = new Set(chosenOf(this.signatures, authorsOf(this.fields).domains));
    const good = [...this.chosen].flatMap((parse) => (parse.kind === 'ok' ? [parse.signature] : []));
    for (const how of ['simple', 'relaxed'] as const) {
      const lengths = good.filter((one) => one.bodyHow === how).map((one) => one.length);
      if (lengths.length > 0)
        this.bodies.set(
          how,
          new BodyHash(
            how,
            lengths.filter((length) => length !== null),
          ),
        );
    }
    const rest = this.header.subarray(bodyOffset(this.header));
    for (const body of this.bodies.values()) body.push(rest);
    this.header = Buffer.alloc(0);
  }

  private judge(signature: Signature, bodyHash: string | null, published: Answer<'TXT'>, now: number): Judged {
    const no = (result: DkimOutcome['result'], reason: string): Judged => ({ result, reason });
    if (signature.expires !== null && signature.expires < now / 1000) return no('fail', 'signature expired');
    if (bodyHash === null) return no('permerror', 'l= is longer than the body');
    if (bodyHash !== signature.bodyHash) return no('fail', 'body hash differs');
    if (published.kind === 'failed') return no('temperror', `no answer for the key: ${published.reason}`);
    if (published.kind === 'none') return no('permerror', 'no key is published');
    // §3.6.2.2: with several records at a selector, each may be tried; the last reason stands.
    let last = no('permerror', 'no key is published');
    for (const text of published.values.slice(0, MOST_KEYS)) {
      last = this.tryKey(signature, text);
      if (last.result === 'pass') break;
    }
    return last;
  }

  private tryKey(signature: Signature, text: string): Judged {
    const no = (result: DkimOutcome['result'], reason: string): Judged => ({ result, reason });
    const record = parseKeyRecord(text);
    if (record.kind === 'revoked') return no('permerror', 'key revoked');
    if (record.kind === 'invalid') return no('permerror', `key unusable: ${record.reason}`);
    if (record.type !== signature.algorithm.split('-')[0]) return no('permerror', 'key type and algorithm differ');
    // RFC 8301 §3.2
    if (record.type === 'rsa' && record.bits < 1024) return no('permerror', `key of ${record.bits} bits is too short`);
    // RFC 8301 §3.2 asks for 4096; a longer one costs the verifier what its maker likes.
    if (record.bits > LONGEST_KEY) return no('permerror', `key of ${record.bits} bits is too long`);
    if (record.strict && signature.identityDomain !== signature.domain) return no('permerror', 'the key forbids subdomains');
    const input = signedText(this.fields ?? [], signature, this.canonical);
    if (!verifies(record, input, signature.value)) return no('fail', 'signature does not verify');
    return {
      ...no('pass', record.testing ? 'good signature; the key is published as a test' : 'good signature'),
      rsaBits: record.type === 'rsa' ? record.bits : null,
    };
  }
}

/** Whether the signature over the input is of this key. */
export function verifies(record: { key: KeyObject; type: KeyType }, input: Buffer, value: Buffer): boolean {
  try {
    if (record.type === 'rsa') return verify('sha256', input, record.key, value);
    // RFC 8463 §3: Ed25519 signs the SHA-256 of the input.
    return verify(null, createHash('sha256').update(input).digest(), record.key, value);
  } catch {
    // A key that can be read and still not be used, for example one with an even exponent.
    return false;
  }
}

/** Verifies a message that is there as a whole. */
export async function verifyDkim(message: Buffer, lookup: Lookup, now: number): Promise<DkimOutcome[]> {
  const verifier = new DkimVerifier();
  await inPieces(message, (piece) => verifier.push(piece));
  return verifier.finish(lookup, now);
}

/** What is signed: the named fields bottom up, then the signature field without its b= value (RFC 6376 §3.7). */
function signedText(fields: Field[], { field: own, signed, headerHow }: Signature, known: Map<Field, string>): Buffer {
  // By name once: a signature may name thousands, over thousands of fields.
  const left = new Map<string, Field[]>();
  for (const field of fields) {
    // §3.5: h= may name other signatures, never this one.
    if (field === own) continue;
    const name = field.name.toLowerCase();
    const same = left.get(name);
    if (same) same.push(field);
    else left.set(name, [field]);
  }
  const lines: string[] = [];
  for (const name of signed) {
    const field = left.get(name)?.pop();
    if (field) lines.push(headerHow === 'simple' ? field.raw : relaxed(field, known));
  }
  return Buffer.from([...lines, canonicalField(withoutValue(own.raw), headerHow)].join('\r\n'), 'latin1');
}

function relaxed(field: Field, known: Map<Field, string>): string {
  const found = known.get(field) ?? canonicalField(field.raw, 'relaxed');
  known.set(field, found);
  return found;
}

/** The signatures that are verified: those that could align with an author first (RFC 7489 §3.1.1), in their order. */
function chosenOf(all: readonly SignatureParse[], authors: readonly string[]): SignatureParse[] {
  const good = all.filter((one) => one.kind === 'ok');
  const aligned = good.filter(({ signature }) => authors.some((author) => isAligned(signature.domain, author, false)));
  return [...aligned, ...good.filter((one) => !aligned.includes(one))].slice(0, MOST_SIGNATURES);
}

/** A signature field with nothing behind its b= (RFC 6376 §3.7). Only the tag itself counts, not a `b=` within the value of another. */
function withoutValue(raw: string): string {
  const colon = raw.indexOf(':') + 1;
  const tags = raw.slice(colon).split(';');
  const at = tags.findIndex((tag) => /^[ \t\r\n]*b[ \t\r\n]*=/.test(tag));
  if (at >= 0) tags[at] = (tags[at] as string).slice(0, (tags[at] as string).indexOf('=') + 1);
  return raw.slice(0, colon) + tags.join(';');
}
