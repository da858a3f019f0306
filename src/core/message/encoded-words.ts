/** Octets of UTF-8 in one word: in base64 and with its frame it stays below 75 characters (RFC 2047 §2). */
const MOST_OCTETS = 45;

/** A text for a header field: as it is when it is plain ASCII, else as encoded words on lines of their own (RFC 2047). */
export function encodedWords(text: string): string {
  const clean = text.replace(/[\p{Cc}]+/gu, ' ');
  if (Buffer.byteLength(clean) === clean.length && !clean.includes('=?')) return clean;
  const words: string[] = [];
  let word = '';
  // Letter by letter: a word holds whole ones (§5).
  for (const letter of clean) {
    if (Buffer.byteLength(word + letter) > MOST_OCTETS) {
      words.push(word);
      word = '';
    }
    word += letter;
  }
  return [...words, word].map((one) => `=?utf-8?B?${Buffer.from(one).toString('base64')}?=`).join('\r\n ');
}
