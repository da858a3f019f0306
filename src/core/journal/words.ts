/** Longer ones are cut: nobody types them whole. */
const LONGEST = 120;
/** Shorter ones are meant whole: as a beginning they would mean half the journal. */
const SHORTEST_BEGINNING = 3;
const MOST_ASKED = 12;

/** What holds addresses, domains and names together. */
const JOINTS = '@._+=:/-';
const SEPARATORS = new RegExp(`[^\\p{L}\\p{N}${JOINTS}]+`, 'u');
const AT_THE_ENDS = new RegExp(`^[${JOINTS}]+|[${JOINTS}]+$`, 'g');
const JOINT = new RegExp(`[${JOINTS}]+`);

/** Nearly every text: there is nothing to fold but its case. */
const PLAIN = /^[\0-\x7f]*$/;

/** Case and accents make no difference. */
const folded = (text: string): string => (PLAIN.test(text) ? text : text.normalize('NFKD').replace(/\p{M}/gu, '')).toLowerCase();

const wholeWords = (text: string): string[] =>
  folded(text)
    .split(SEPARATORS)
    .map((word) => word.replace(AT_THE_ENDS, '').slice(0, LONGEST))
    .filter((word) => word !== '');

/**
 * The words by which a text is found: each as it stands, an address also by its two sides, a domain by each domain above it, and everything by its
 * pieces. So “ana@mail.shop.example” is found by ana, mail.shop.example, shop.example, shop, and by itself at the cost of one rare word.
 */
export function wordsOfText(text: string): string[] {
  const found = new Set<string>();
  for (const word of wholeWords(text)) {
    found.add(word);
    for (const side of word.split('@')) {
      found.add(side);
      for (let dot = side.indexOf('.'); dot >= 0; dot = side.indexOf('.', dot + 1))
        if (side.includes('.', dot + 1)) found.add(side.slice(dot + 1));
    }
    for (const piece of word.split(JOINT)) found.add(piece);
  }
  found.delete('');
  return [...found];
}

interface Asked {
  word: string;
  /** Whether a word that begins so will do; else it is meant whole. */
  begins: boolean;
}

/** What is asked for, word by word. The last may be a word half typed, however short, when another says more. */
function asked(search: string): Asked[] {
  const words = wholeWords(search).slice(0, MOST_ASKED);
  const long = words.some((word) => word.length >= SHORTEST_BEGINNING);
  return words.map((word, at) => ({ word, begins: word.length >= SHORTEST_BEGINNING || (long && at === words.length - 1) }));
}

/**
 * Whether a text answers a question: each word of the question is one of its own, or the beginning of one. Null when nothing in the question is a
 * word. This is what a search means, whether the index of words led to the text or not.
 */
export function finder(search: string): ((text: string) => boolean) | null {
  const words = asked(search);
  if (words.length === 0) return null;
  return (text) => {
    const all = folded(text);
    if (!words.every(({ word }) => all.includes(word))) return false;
    const own = wordsOfText(text);
    return words.every(({ word, begins }) => (begins ? own.some((one) => one.startsWith(word)) : own.includes(word)));
  };
}

/**
 * What a question asks of the index of words (all must be there); null when nothing in it is a word. A short beginning is in half the journal and is
 * not asked there: `exact` says that nothing was left out, else what was found is still to be compared.
 */
export function wordsAsked(search: string): { words: Asked[]; exact: boolean } | null {
  const words = asked(search);
  if (words.length === 0) return null;
  const known = words.filter(({ word, begins }) => !begins || word.length >= SHORTEST_BEGINNING);
  return { words: known, exact: known.length === words.length };
}

/** Messages of one shelf of the index. Common words are looked for shelf by shelf, the newest first, so that their cost does not grow with the journal. */
const SHELF = 100_000;
const SHELF_NAME = 3;

/** The shelf that a message is on, by its number. */
export const shelfOf = (place: number): number => Math.floor(place / SHELF);

/** What stands before each word on a shelf: always as long. */
const shelfName = (shelf: number): string => shelf.toString(36).padStart(SHELF_NAME, '0');

/** Words as they stand on a shelf, for the index. */
export const shelved = (words: readonly string[], shelf: number): string => words.map((word) => `${shelfName(shelf)}${word}`).join(' ');

/** Beginnings up to that length are indexed; all that begins with a longer one would be put together anew for each question. */
const INDEXED_BEGINNING = 6;

/**
 * The question for one shelf, in the language of the index; nothing in it can break out of its quotes. Null when a word of it is not on the shelf.
 * `begunBy` gives the few words on a shelf that begin so, null where they are many: a long beginning is mostly one word, and that is found at once.
 */
export function askedOf(words: readonly Asked[], shelf: number, begunBy: (beginning: string) => string[] | null): string | null {
  const parts: string[] = [];
  for (const { word, begins } of words) {
    const own = `${shelfName(shelf)}${word}`;
    const few = begins && word.length > INDEXED_BEGINNING ? begunBy(own) : null;
    if (few?.length === 0) return null;
    parts.push(few ? `(${few.map((one) => `"${one}"`).join(' OR ')})` : `"${own}"${begins ? '*' : ''}`);
  }
  return parts.join(' AND ');
}
