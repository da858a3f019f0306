import type { SpfReason } from './merge.ts';

/** Why a term was left out or changed, as it stands after the term. */
export function reasonWords(one: SpfReason): string {
  switch (one.code) {
    case 'after-all':
      return 'it follows “all”, where nothing is evaluated';
    case 'twice':
      return 'it is given twice';
    case 'ptr':
      return 'ptr is slow and unreliable, and must no longer be used (RFC 7208 §5.5)';
    case 'redirect-beside-all':
      return 'a record with “all” never uses its redirect';
    case 'includes-itself':
      return 'it includes itself';
    case 'unreadable':
      return `it can’t be read: ${one.reason}`;
    case 'broken':
      return `the record of ${one.name} is broken: ${one.reason}`;
    case 'lets-anyone-in':
      return `${one.name ?? 'it'} lets anyone send`;
    case 'no-mx':
      return `${one.name} has no MX record`;
    case 'no-address':
      return `${one.name} has no address`;
    case 'no-record':
      return `${one.name} has no SPF record`;
    case 'several-records':
      return `${one.name} has more than one SPF record`;
    case 'leads-back':
      return `${one.name} leads back to itself`;
    case 'too-many-lookups':
      return `its ${one.networks} current networks are listed directly, because the record needs too many look-ups; keep them up to date`;
    case 'one-family': {
      const [what, them] = one.networks === 1 ? ['address is', 'it'] : [`${one.networks} addresses are`, 'them'];
      return `its ${what} written out: it has none of the other kind, IPv4 or IPv6, and more than two such terms are an error for clients of that kind; keep ${them} up to date`;
    }
  }
}
