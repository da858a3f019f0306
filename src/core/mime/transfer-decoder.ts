/** Decodes a Content-Transfer-Encoding piece by piece (RFC 2045 §6): however the octets are cut, the result is the same. */
export interface TransferDecoder {
  /** What can be decoded by now. */
  push(octets: Buffer): Buffer;
  /** The rest. */
  end(): Buffer;
}

/** A decoder for the encoding of that name; null for one that nobody knows. */
export function transferDecoder(encoding: string): TransferDecoder | null {
  switch (encoding.trim().toLowerCase()) {
    case '':
    case '7bit':
    case '8bit':
    case 'binary':
      return { push: (octets) => octets, end: () => Buffer.alloc(0) };
    case 'base64':
      return new Base64Decoder();
    case 'quoted-printable':
      return new QuotedPrintableDecoder();
    default:
      return null;
  }
}

class Base64Decoder implements TransferDecoder {
  private rest = '';

  push(octets: Buffer): Buffer {
    // §6.8: what is not in the alphabet is passed over; padding ends a group, and another text may follow it.
    const [first = '', ...more] = (this.rest + octets.toString('latin1').replace(/[^A-Za-z0-9+/=_-]+/g, '')).split(/=+/);
    const last = more.pop();
    const open = last ?? first;
    const whole = open.length - (open.length % 4);
    this.rest = open.slice(whole);
    const closed = last === undefined ? [] : [first, ...more];
    return Buffer.concat([...closed, open.slice(0, whole)].map((digits) => Buffer.from(digits, 'base64')));
  }

  end(): Buffer {
    const digits = this.rest;
    this.rest = '';
    return Buffer.from(digits, 'base64');
  }
}

/** A line without an end is cut here: nobody's memory waits for it. */
const LONGEST_LINE = 64 * 1024;

class QuotedPrintableDecoder implements TransferDecoder {
  private rest: Buffer = Buffer.alloc(0);

  push(octets: Buffer): Buffer {
    const all = Buffer.concat([this.rest, octets]);
    let end = all.lastIndexOf(0x0a) + 1;
    if (all.length - end > LONGEST_LINE) {
      end = all.length;
      // Not within an octet that is written as three, a soft line break, or blanks that may end the line.
      while (end > 0 && end > all.length - LONGEST_LINE && mayGoOn(all, end)) end -= 1;
    }
    this.rest = all.subarray(end);
    return quotedPrintableDecoded(all.subarray(0, end));
  }

  end(): Buffer {
    const octets = this.rest;
    this.rest = Buffer.alloc(0);
    return quotedPrintableDecoded(octets);
  }
}

function mayGoOn(all: Buffer, end: number): boolean {
  const last = all[end - 1];
  return last === 0x20 || last === 0x09 || last === 0x0d || last === 0x3d || all[end - 2] === 0x3d;
}

function quotedPrintableDecoded(octets: Buffer): Buffer {
  const text = octets
    .toString('latin1')
    // §6.7 (3): blanks at the end of a line are not part of it.
    .replace(/(?<![ \t])[ \t]+(?=\r?\n)/g, '')
    .replace(/=\r?\n/g, '')
    .replace(/=([0-9a-f]{2})/gi, (_all, hex) => String.fromCharCode(Number.parseInt(hex, 16)));
  return Buffer.from(text, 'latin1');
}
