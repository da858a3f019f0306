import { type Answer, type Lookup, lookUp, type RecordType, valueText } from '../records/answers.ts';

/** Whether what was found at a name is what its zone says of any name there (RFC 4592): then nobody has published it there. */
export async function isWildcard(
  name: string,
  type: RecordType,
  found: Answer<RecordType>,
  sibling: string,
  lookup: Lookup,
): Promise<boolean> {
  if (found.kind !== 'found') return false;
  const answer = (await lookUp(lookup, `${sibling}.${name.slice(name.indexOf('.') + 1)}`, type)) as Answer<RecordType>;
  return answer.kind === 'found' && texts(answer.values) === texts(found.values);
}

const texts = (values: readonly Parameters<typeof valueText>[0][]): string => values.map(valueText).sort().join('\n');
