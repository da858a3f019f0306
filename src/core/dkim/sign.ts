import { createHash } from 'node:crypto';
import { bodyOffset, fieldsNamed, parseFields } from '../message/fields.ts';
import { canonicalBody, canonicalField } from './canonical.ts';

/** Signed when present (RFC 6376 §5.4.1). */
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
];
/** Named once more than they occur, so that none can be added later (RFC 6376 §5.4). */
const OVERSIGNED = ['From', 'To', 'Subject', 'Date'];

export interface SigningFacts {
  domain: string;
  selector: string;
  /** Seconds since 1970. */
  at: number;
}

export interface PreparedSignature {
  /** What the private key signs. */
  input: Buffer;
  /** The field with its final CRLF, once the signature over `input` is known. */
  field(signature: Buffer): string;
}

/** Prepares an rsa-sha256, relaxed/relaxed signature (RFC 6376 §3.7, §5); the caller holds the key and signs `input`. */
export function prepareSignature(message: Buffer, facts: SigningFacts): PreparedSignature {
  const fields = parseFields(message);
  const bodyHash = createHash('sha256')
    .update(canonicalBody(message.subarray(bodyOffset(message)), 'relaxed'))
    .digest('base64');
  const names: string[] = [];
  const lines: string[] = [];
  for (const name of SIGNED) {
    // §5.4.2: repeated fields are taken from the bottom up.
    const present = fieldsNamed(fields, name).reverse();
    for (const field of present) {
      names.push(name);
      lines.push(canonicalField(field.raw, 'relaxed'));
    }
    if (OVERSIGNED.includes(name)) names.push(name);
  }
  const unsigned =
    `DKIM-Signature: v=1; a=rsa-sha256; c=relaxed/relaxed; d=${facts.domain}; s=${facts.selector};\r\n` +
    `\tt=${facts.at}; bh=${bodyHash};\r\n` +
    `\th=${foldNames(names)};\r\n\tb=`;
  const input = Buffer.from([...lines, canonicalField(unsigned, 'relaxed')].join('\r\n'), 'latin1');
  return {
    input,
    field: (signature) => `${unsigned}${(signature.toString('base64').match(/.{1,70}/g) ?? []).join('\r\n\t ')}\r\n`,
  };
}

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
