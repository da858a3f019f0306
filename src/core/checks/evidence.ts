import { type Answer, answerText, type Lookup, lookUp, type RecordType, valueText } from '../records/answers.ts';

/** One question and what came back. */
export interface Evidence {
  /** The server that answered; `a resolver` where that is not known. */
  by: string;
  type: RecordType;
  name: string;
  answer: string;
  /** Seconds that a cache may keep the answer; null when it may not. */
  ttl: number | null;
}

const LONGEST_ANSWER = 1000;

export interface Recorded {
  type: RecordType;
  name: string;
  answer: Answer<RecordType>;
}

/** Questions that one subject's check asks at most: no honest record needs more, and one that was made to cost something ends here. */
export const MOST_QUESTIONS = 150;

/** A look-up that remembers each question once, with its answer. After so many different ones it asks no more, and `spent` says so. */
export function recording(lookup: Lookup, most = MOST_QUESTIONS): { lookup: Lookup; recorded: Recorded[]; spent: () => boolean } {
  const recorded = new Map<string, Recorded>();
  const list: Recorded[] = [];
  let isSpent = false;
  const recorder: Lookup = async (name, type) => {
    const key = `${type} ${name}`;
    if (!recorded.has(key) && recorded.size >= most) {
      isSpent = true;
      return { kind: 'failed', reason: `more than ${most} questions` };
    }
    // Counted when it is asked: many at once are many.
    const question: Recorded = recorded.get(key) ?? { type, name, answer: { kind: 'failed', reason: 'not answered yet' } };
    if (!recorded.has(key)) {
      recorded.set(key, question);
      list.push(question);
    }
    const answer = await lookup(name, type);
    question.answer = answer as Answer<RecordType>;
    return answer;
  };
  return { lookup: recorder, recorded: list, spent: () => isSpent };
}

export const evidenceOf = ({ type, name, answer }: Recorded): Evidence => ({
  by: answer.by ?? 'a resolver',
  type,
  name,
  answer: answerText(answer).slice(0, LONGEST_ANSWER),
  ttl: answer.kind === 'failed' ? null : (answer.ttl ?? null),
});

/** An answer that another server gives, although the source says something else by now. */
export interface Stale {
  source: Recorded;
  cached: Recorded;
  /** Asks the server that gives it. */
  lookup: Lookup;
  secondsLeft: number;
}

/** What of a subject's questions may be late in caches: the names, and the TXT records among others of a name. */
export interface Scope {
  concerns: (name: string) => boolean;
  isOurs: (text: string) => boolean;
}

/**
 * Asks the resolvers what was asked at the source, within the scope, and returns what they keep of old answers.
 * A resolver that gives no answer proves nothing.
 */
export async function findStale(
  recorded: readonly Recorded[],
  caches: readonly Lookup[],
  { concerns, isOurs }: Scope,
): Promise<{ stale: Stale[]; asked: Recorded[] }> {
  const asked: Recorded[] = [];
  const stale: Stale[] = [];
  const compare = async (source: Recorded, lookup: Lookup): Promise<void> => {
    const answer = (await lookUp(lookup, source.name, source.type)) as Answer<RecordType>;
    // A resolver that is the only source there is has been heard already.
    if (answer.by !== undefined && answer.by === source.answer.by) return;
    const cached = { ...source, answer };
    // A zone with fewer name servers than could be asked has said nothing.
    if (answer.kind === 'failed' && answer.by === undefined) return;
    asked.push(cached);
    if (answer.kind !== 'failed' && contents(cached, isOurs).join('\n') !== contents(source, isOurs).join('\n'))
      stale.push({ source, cached, lookup, secondsLeft: answer.ttl ?? 0 });
  };
  const wanted = recorded.filter((one) => one.answer.kind !== 'failed' && concerns(one.name));
  await Promise.all(wanted.flatMap((source) => caches.map((lookup) => compare(source, lookup))));
  return { stale, asked };
}

/** The values that count, in an order that is the same for the same set. */
export function contents({ type, answer }: Recorded, isOurs: Scope['isOurs']): string[] {
  if (answer.kind !== 'found') return [];
  return answer.values
    .map(valueText)
    .filter((text) => type !== 'TXT' || isOurs(text))
    .sort();
}
