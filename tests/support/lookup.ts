import type { Answer, Lookup, RecordType, ValueOf } from '../../src/core/records/answers.ts';

export type Entry = [name: string, type: RecordType | 'DNAME', value: string];

export const at = (name: string, type: Entry[1], value: string): Entry => [name, type, value];

/**
 * A look-up over a written list of records; names in `silent` get no answer. Aliases are followed (CNAME, and DNAME by the entry type `DNAME`),
 * `*` as the first label answers for what is not there. Counts what was asked.
 */
export function lookupIn(entries: readonly Entry[], silent: readonly string[] = []): Lookup & { asked: string[] } {
  const asked: string[] = [];
  const exists = (name: string): boolean => entries.some(([owner]) => owner === name || owner.endsWith(`.${name}`));
  const at = (name: string): readonly Entry[] => {
    const own = entries.filter(([owner]) => owner === name);
    if (own.length > 0 || exists(name)) return own;
    // RFC 4592 §3.3.1: the wildcard below the closest name that exists.
    for (let above = name.slice(name.indexOf('.') + 1); above.includes('.'); above = above.slice(above.indexOf('.') + 1))
      if (entries.some(([owner]) => owner === `*.${above}`)) return entries.filter(([owner]) => owner === `*.${above}`);
      else if (exists(above)) return [];
    return [];
  };
  const find = async <T extends RecordType>(name: string, type: T, depth = 0): Promise<Answer<T>> => {
    const key = name.toLowerCase();
    if (depth === 0) asked.push(`${type} ${key}`);
    if (silent.includes(key)) return { kind: 'failed', reason: 'no answer in time' };
    if (depth > 8) return { kind: 'failed', reason: `the aliases of ${name} have no end` };
    const here = at(key);
    const values = here.filter(([, kind]) => kind === type).map(([, , value]) => parsed(type, value));
    if (values.length > 0) return { kind: 'found', values: values as ValueOf[T][], ttl: 300, alias: null };
    const dname = entries.find(([owner, kind]) => kind === 'DNAME' && key.endsWith(`.${owner}`));
    const alias = here.find(([, kind]) => kind === 'CNAME')?.[2] ?? (dname && `${key.slice(0, -dname[0].length)}${dname[2]}`);
    if (alias !== undefined && type !== 'CNAME') {
      const further = await find(alias, type, depth + 1);
      return further.kind === 'failed' ? further : { ...further, alias: further.alias ?? alias, ...(dname ? { dname: dname[0] } : {}) };
    }
    return { kind: 'none', reason: here.length > 0 || exists(key) ? 'no-such-record' : 'no-such-name' };
  };
  return Object.assign(find as Lookup, { asked });
}

function parsed(type: RecordType, value: string): ValueOf['MX' | 'SOA' | 'TXT'] {
  if (type === 'SOA') return { serial: Number(value), refresh: 3600 };
  if (type !== 'MX') return value;
  const [preference, exchange = ''] = value.split(' ');
  return { preference: Number(preference), exchange };
}
