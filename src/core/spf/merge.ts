import { parseSpf } from './record.ts';

/**
 * One record out of those that are published, with our host allowed: terms keep their order, repeated ones are dropped,
 * ours goes before `all`, and the strictest `all` stays; one that lets anyone in gives way to `-all`. Unreadable records contribute nothing.
 */
export function mergeSpf(published: readonly string[], hostTerm: string): string {
  const terms: string[] = [];
  const endings: string[] = [];
  for (const text of published) {
    if (parseSpf(text).kind === 'invalid') continue;
    for (const term of text.trim().split(/ +/).slice(1)) {
      if (/^[+~?-]?all$/i.test(term)) endings.push(term.toLowerCase());
      else if (!terms.includes(term)) terms.push(term);
    }
  }
  if (!terms.includes(hostTerm)) terms.unshift(hostTerm);
  const redirects = terms.some((term) => /^redirect=/i.test(term));
  const all = ['-all', '~all'].find((ending) => endings.includes(ending)) ?? (redirects ? '' : '-all');
  return ['v=spf1', ...terms, all].filter((term) => term !== '').join(' ');
}
