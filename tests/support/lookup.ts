import type { Answer, Lookup, RecordType, ValueOf } from '../../src/core/records/answers.ts';

type Entry = [name: string, type: RecordType, value: string];

/** A look-up over a written list of records; names in `silent` get no answer. Counts what was asked. */
export function lookupIn(entries: readonly Entry[], silent: readonly string[] = []): Lookup & { asked: string[] } {
  const asked: string[] = [];
  const find = async <T extends RecordType>(name: string, type: T): Promise<Answer<T>> => {
    const key = name.toLowerCase();
    asked.push(`${type} ${key}`);
    if (silent.includes(key)) return { kind: 'failed', reason: 'no answer in time' };
    const values = entries.filter(([owner, kind]) => owner === key && kind === type).map(([, , value]) => parsed(type, value));
    if (values.length > 0) return { kind: 'found', values: values as ValueOf[T][], ttl: 300, alias: null };
    const known = entries.some(([owner]) => owner === key || owner.endsWith(`.${key}`));
    return { kind: 'none', reason: known ? 'no-such-record' : 'no-such-name' };
  };
  return Object.assign(find as Lookup, { asked });
}

function parsed(type: RecordType, value: string): string | { preference: number; exchange: string } {
  if (type !== 'MX') return value;
  const [preference, exchange = ''] = value.split(' ');
  return { preference: Number(preference), exchange };
}
