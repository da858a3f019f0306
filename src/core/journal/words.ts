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

/** Case and accents make no difference. */
const folded = (text: string): string => text.normalize('NFKD').replace(/\p{M}/gu, '').toLowerCase();

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

/** A question in the words of the index (all must be there, each from its beginning); null when nothing in it is a word. */
export function wordsAsked(search: string): string | null {
  const words = wholeWords(search).slice(0, MOST_ASKED);
  return words.length === 0 ? null : words.map((word) => (word.length < SHORTEST_BEGINNING ? `"${word}"` : `"${word}"*`)).join(' ');
}
