import { lookUp } from '../../core/records/answers.ts';
import { listLabel } from '../../core/records/reverse-name.ts';
import type { ReceptionDeps } from './deps.ts';

/** The first of the chosen block lists that names an address (RFC 5782 §2.1); null when none does, or none answers. */
export async function listedBy({ host, lookup }: ReceptionDeps, address: string): Promise<string | null> {
  if (host.refuseListed.length === 0) return null;
  const label = listLabel(address);
  const answers = await Promise.all(
    host.refuseListed.map(async (list) => {
      const answer = await lookUp(lookup, `${label}.${list}`, 'A');
      // Other answers than 127.0.0.0/8 are a list that has gone wrong, not an entry.
      return answer.kind === 'found' && answer.values.some((value) => value.startsWith('127.')) ? list : null;
    }),
  );
  return answers.find((one) => one !== null) ?? null;
}
