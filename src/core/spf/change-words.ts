import type { SpfReason } from './merge.ts';

/** Why a term was left out or changed, as it stands after the term. */
export function reasonWords(one: SpfReason): string {
  switch (one.code) {
    case 'after-all':
      return 'it stands after “all”, where nothing is read';
    case 'twice':
      return 'it is given twice';
    case 'ptr':
      return 'ptr is slow and unreliable, and no longer to be used (RFC 7208 §5.5)';
    case 'redirect-beside-all':
      return 'a record with “all” never comes to its redirect';
    case 'includes-itself':
      return 'it includes itself';
    case 'unreadable':
      return `it can’t be read: ${one.reason}`;
    case 'broken':
      return `the record of ${one.name} is broken: ${one.reason}`;
    case 'lets-anyone-in':
      return `${one.name ?? 'it'} lets anyone in the world send`;
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
      return `its ${one.networks} networks of today are written out, because the record asks for too many look-ups; look after them`;
    case 'one-family': {
      const [what, them] = one.networks === 1 ? ['address is', 'it'] : [`${one.networks} addresses are`, 'them'];
      return `its ${what} written out: it has none of the other kind, IPv4 or IPv6, and more than two such terms are an error for clients of that kind; look after ${them}`;
    }
  }
}
