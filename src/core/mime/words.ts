import { transferDecoder } from './transfer-decoder.ts';

/** Octets in a charset that somebody named, as text: what is not known, or not what it says, is read as UTF-8 if it can be, else as the commonest of the West. */
export function decoded(octets: Buffer, charset: string | null): string {
  const name = (charset ?? 'utf-8').trim().toLowerCase();
  if (name !== 'us-ascii' && name !== 'utf-8' && name !== 'utf8' && name !== 'unknown-8bit') {
    try {
      return new TextDecoder(name).decode(octets);
    } catch {
      // Not a charset that anybody knows.
    }
  }
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(octets);
  } catch {
    return new TextDecoder('windows-1252').decode(octets);
  }
}

/** One encoded word: charset, with or without a language (RFC 2231 §5), encoding, text. */
const WORD = /=\?([^?\s*]{1,60})(?:\*[^?\s]{0,60})?\?([bq])\?([^?\r\n]*)\?=/gi;

/** A field's value in letters: encoded words of every kind (RFC 2047), and octets beyond ASCII as what they most likely are. */
export function decodedWords(value: string): string {
  let text = '';
  let end = 0;
  // Octets of neighbours in one charset belong together: some programs cut a letter in two.
  let open: { charset: string; octets: Buffer[] } | null = null;
  const close = (): void => {
    if (open) text += decoded(Buffer.concat(open.octets), open.charset);
    open = null;
  };
  for (const found of value.matchAll(WORD)) {
    const [whole, charset = '', coding = '', coded = ''] = found;
    const between = value.slice(end, found.index);
    const last = open as { charset: string; octets: Buffer[] } | null;
    const octets = coding.toLowerCase() === 'b' ? Buffer.from(coded, 'base64') : fromQ(coded);
    // RFC 2047 §6.2: blanks between two of them are not shown.
    const isNext = last !== null && /^[ \t]*$/.test(between);
    if (isNext && last.charset === charset.toLowerCase()) last.octets.push(octets);
    else {
      close();
      if (!isNext) text += decoded(Buffer.from(between, 'latin1'), null);
      open = { charset: charset.toLowerCase(), octets: [octets] };
    }
    end = found.index + whole.length;
  }
  close();
  return text + decoded(Buffer.from(value.slice(end), 'latin1'), null);
}

const fromQ = (coded: string): Buffer =>
  Buffer.from(
    coded.replaceAll('_', ' ').replace(/=([0-9a-f]{2})/gi, (_all, hex) => String.fromCharCode(Number.parseInt(hex, 16))),
    'latin1',
  );

/** What a part holds, by its Content-Transfer-Encoding (RFC 2045 §6); null for one that nobody knows. */
export function transferDecoded(octets: Buffer, encoding: string): Buffer | null {
  const decoder = transferDecoder(encoding);
  if (!decoder) return null;
  const decoded = decoder.push(octets);
  const rest = decoder.end();
  return rest.length === 0 ? decoded : Buffer.concat([decoded, rest]);
}
