/** A piece of a text, and whether the other text lacks it. */
export interface Piece {
  text: string;
  differs: boolean;
}

/** Longer texts are compared by their beginning and end only. */
const MOST_WORDS = 400;

/** What of `value` is not in `other`, to the character where single words differ. */
export function difference(value: string, other: string): Piece[] {
  const [mine, theirs] = [words(value), words(other)];
  if (mine.length > MOST_WORDS || theirs.length > MOST_WORDS) return trimmed(value, other);
  const kept = commonWords(mine, theirs);
  const pieces: Piece[] = [];
  let [one, two] = [0, 0];
  for (const [at, beside] of [...kept, [mine.length, theirs.length]] as [number, number][]) {
    pieces.push(...trimmed(mine.slice(one, at).join(''), theirs.slice(two, beside).join('')));
    if (at < mine.length) pieces.push({ text: mine[at] ?? '', differs: false });
    [one, two] = [at + 1, beside + 1];
  }
  return joined(pieces);
}

/** Words with the space before them, so that a missing word is one piece. */
const words = (text: string): string[] => text.match(/\s*\S+|\s+$/g) ?? [];

/** The places of a longest common sequence of words, in both texts. */
function commonWords(mine: string[], theirs: string[]): [number, number][] {
  const width = theirs.length + 1;
  const lengths = new Uint16Array((mine.length + 1) * width);
  const at = (one: number, two: number): number => lengths[one * width + two] ?? 0;
  for (let one = mine.length - 1; one >= 0; one -= 1)
    for (let two = theirs.length - 1; two >= 0; two -= 1)
      lengths[one * width + two] = mine[one] === theirs[two] ? at(one + 1, two + 1) + 1 : Math.max(at(one + 1, two), at(one, two + 1));
  const pairs: [number, number][] = [];
  for (let one = 0, two = 0; one < mine.length && two < theirs.length; ) {
    if (mine[one] === theirs[two]) {
      pairs.push([one, two]);
      one += 1;
      two += 1;
    } else if (at(one + 1, two) >= at(one, two + 1)) one += 1;
    else two += 1;
  }
  return pairs;
}

/** Beginning and end that both share, and what lies between. */
function trimmed(value: string, other: string): Piece[] {
  const most = Math.min(value.length, other.length);
  let begin = 0;
  while (begin < most && value[begin] === other[begin]) begin += 1;
  let end = 0;
  while (end < most - begin && value.at(-1 - end) === other.at(-1 - end)) end += 1;
  return [
    { text: value.slice(0, begin), differs: false },
    { text: value.slice(begin, value.length - end), differs: true },
    { text: value.slice(value.length - end), differs: false },
  ];
}

function joined(pieces: Piece[]): Piece[] {
  const result: Piece[] = [];
  for (const piece of pieces) {
    const last = result.at(-1);
    if (piece.text === '') continue;
    if (last?.differs === piece.differs) last.text += piece.text;
    else result.push({ ...piece });
  }
  return result;
}
