import { createHash } from 'node:crypto';
import { bodyOffset, type Field, parseFields } from '../message/fields.ts';
import { inPieces } from '../pieces.ts';
import type { KeyType } from '../vocabulary.ts';
import { BodyHash } from './body-hash.ts';
import { canonicalField } from './canonical.ts';

/** Signed when present (RFC 6376 §5.4.1; the last two by RFC 8058 §4). */
const SIGNED = [
  'From',
  'To',
  'Cc',
  'Subject',
  'Date',
  'Message-ID',
  'Reply-To',
  'In-Reply-To',
  'References',
  'MIME-Version',
  'Content-Type',
  'Content-Transfer-Encoding',
  'List-Unsubscribe',
  'List-Unsubscribe-Post',
];
/** Named once more than they occur, so that none can be added later (RFC 6376 §5.4). */
const OVERSIGNED = ['From', 'To', 'Subject', 'Date'];

export interface SigningKey {
  selector: string;
  type: KeyType;
}

export interface SigningFacts {
  domain: string;
  /** One signature is prepared for each. */
  keys: readonly SigningKey[];
  /** Seconds since 1970. */
  at: number;
}

export interface PreparedSignature {
  selector: string;
  /** What the private key signs: the text itself for RSA, its SHA-256 for Ed25519 (RFC 8463 §3). */
  input: Buffer;
  /** The field with its final CRLF, once the signature over `input` is known. */
  field(signature: Buffer): string;
}

/** A signature is believed this long (x=): past any queue, and too short to be kept for later abuse. Seconds. */
const BELIEVED_FOR = 30 * 24 * 3600;

/** Prepares relaxed/relaxed signatures, one a key, over one hash of the body (RFC 6376 §3.7, §5); the caller holds the keys and signs. */
export async function prepareSignatures(
  message: Buffer | AsyncIterable<Buffer>,
  { domain, keys, at }: SigningFacts,
): Promise<PreparedSignature[]> {
  const { header, bodyHash } = await readForSigning(message);
  const named = new Map<string, Field[]>();
  // §5.4.2: repeated fields are taken from the bottom up.
  for (const field of parseFields(header).reverse()) {
    const name = field.name.toLowerCase();
    named.set(name, [...(named.get(name) ?? []), field]);
  }
  const names: string[] = [];
  const lines: string[] = [];
  for (const name of SIGNED) {
    for (const field of named.get(name.toLowerCase()) ?? []) {
      names.push(name);
      lines.push(canonicalField(field.raw, 'relaxed'));
    }
    if (OVERSIGNED.includes(name)) names.push(name);
  }
  return keys.map(({ selector, type }) => {
    const unsigned =
      `DKIM-Signature: v=1; a=${type}-sha256; c=relaxed/relaxed; d=${domain};\r\n` +
      `\ts=${selector}; t=${at}; x=${at + BELIEVED_FOR};\r\n` +
      `\tbh=${bodyHash};\r\n` +
      `\th=${foldNames(names)};\r\n\tb=`;
    const text = Buffer.from([...lines, canonicalField(unsigned, 'relaxed')].join('\r\n'), 'latin1');
    return {
      selector,
      input: type === 'rsa' ? text : createHash('sha256').update(text).digest(),
      field: (signature) => `${unsigned}${(signature.toString('base64').match(/.{1,70}/g) ?? []).join('\r\n\t ')}\r\n`,
    };
  });
}

/** A header that is longer is signed as far as it goes; none that was accepted is. */
const MOST_HEADER = 4 * 1024 * 1024;

/** The header of a message, and the hash of its body, in one pass. */
async function readForSigning(message: Buffer | AsyncIterable<Buffer>): Promise<{ header: Buffer; bodyHash: string | null }> {
  const body = new BodyHash('relaxed', []);
  let header: Buffer = Buffer.alloc(0);
  let isInBody = false;
  const take = async (piece: Buffer): Promise<void> => {
    if (isInBody) return inPieces(piece, (some) => body.push(some));
    header = header.length === 0 ? piece : Buffer.concat([header, piece]);
    const end = bodyOffset(header);
    if (end === header.length && header.length < MOST_HEADER && !endsHeader(header)) return;
    isInBody = true;
    const rest = header.subarray(end);
    header = header.subarray(0, end);
    await inPieces(rest, (some) => body.push(some));
  };
  if (Buffer.isBuffer(message)) await take(message);
  else for await (const piece of message) await take(piece);
  return { header, bodyHash: body.finish()(null) };
}

const endsHeader = (header: Buffer): boolean => header.length >= 4 && header.subarray(-4).toString('latin1') === '\r\n\r\n';

function foldNames(names: string[]): string {
  let line = '';
  const lines: string[] = [];
  for (const name of names) {
    if (line.length + name.length > 66) {
      lines.push(line);
      line = '';
    }
    line += line === '' && lines.length === 0 ? name : `:${name}`;
  }
  return [...lines, line].join('\r\n\t ');
}
