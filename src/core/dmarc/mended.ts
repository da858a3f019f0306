import { POLICIES, type Policy } from '../vocabulary.ts';
import { type DmarcRecord, parseDmarc } from './record.ts';
import { withTags } from './stages.ts';

/**
 * One record in the place of such as are broken or several: the strictest policy that one of them says, at least `stage`, and all who get reports.
 * Of a single one all else that can be read stays, too; an unreadable policy counts as none (RFC 7489 §6.6.3).
 */
export function mendedDmarc(texts: readonly string[], stage: Policy, reportsTo: string): string {
  const readable = texts.flatMap((text) => readInParts(text) ?? []);
  const policy = POLICIES[Math.max(...[stage, ...readable.map(({ record }) => record.policy)].map((one) => POLICIES.indexOf(one)))];
  const kept = readable.length === 1 ? tagsOf(readable[0]?.clean ?? '').filter(([name]) => !['v', 'p'].includes(name)) : [];
  for (const tag of readable.length > 1 ? ['rua', 'ruf'] : []) {
    const all = new Set(
      readable.flatMap(({ clean }) =>
        tagsOf(clean)
          .filter(([name]) => name === tag)
          .flatMap(([, value]) => value.split(',').map((uri) => uri.trim())),
      ),
    );
    if (all.size > 0) kept.push([tag, [...all].join(',')]);
  }
  if (!kept.some(([name]) => name === 'rua')) kept.push(['rua', `mailto:${reportsTo}`]);
  return ['v=DMARC1', `p=${policy}`, ...kept.map(([name, value]) => `${name}=${value}`)].join('; ');
}

/** A record, if need be without the policies in it that are none. */
function readInParts(text: string): { record: DmarcRecord; clean: string } | null {
  for (const changes of [{}, { sp: null }, { p: 'none' }, { p: 'none', sp: null }]) {
    const parsed = parseDmarc(withTags(text, changes));
    if (parsed.kind === 'ok') return parsed;
  }
  return null;
}

const tagsOf = (clean: string): [name: string, value: string][] =>
  clean.split('; ').flatMap((part) => {
    const at = part.indexOf('=');
    return at < 0 ? [] : [[part.slice(0, at).trim().toLowerCase(), part.slice(at + 1).trim()]];
  });
