import ipaddr from 'ipaddr.js';
import { type Lookup, lookUp, type MxValue, valueText } from '../records/answers.ts';
import { sameAddress } from '../records/reverse-name.ts';
import { type HostFacts, mxRecords, mxTexts } from '../records/sheet.ts';
import { type Finding, type FindingDraft, type SubjectFacts, settledFindings, unanswered } from './finding.ts';

const mxWords = (values: readonly MxValue[]): string => values.map((value) => `“MX ${valueText(value)}”`).join(' and ');
const inOrder = (values: readonly MxValue[]): MxValue[] => [...values].sort((one, other) => one.preference - other.preference);
const texts = (values: readonly MxValue[]): string[] => values.map(valueText);

/** Does mail for a `home` domain come to this host, and only to it and its standby hosts? */
export async function checkMx(domain: string, host: HostFacts, lookup: Lookup): Promise<Finding[]> {
  const expected = mxTexts(host);
  const publish = mxRecords(domain, host);
  const answer = await lookUp(lookup, domain, 'MX');
  const values = answer.kind === 'found' ? inOrder(answer.values) : [];
  const facts: SubjectFacts = { subject: 'mx', name: domain, expected, seen: texts(values) };
  if (answer.kind === 'failed') return unanswered(facts, answer.reason);
  const faults: FindingDraft[] = [];
  const good: FindingDraft = {
    code: 'mx-good',
    verdict: 'good',
    headline: host.standby?.length
      ? 'Mail for this domain arrives here, and at our standby host when this one is down.'
      : 'Mail for this domain arrives here, and only here.',
  };
  if (values.length === 0)
    return settledFindings(
      facts,
      [
        {
          code: 'mx-none',
          verdict: 'missing',
          headline:
            answer.kind === 'none' && answer.reason === 'no-such-name' ? 'The domain does not exist in DNS.' : 'No MX record is published.',
          remedy: `Publish the MX ${plural(publish.length, 'record', 'records')} below.`,
          publish,
        },
      ],
      good,
    );
  if (values.length === 1 && values[0]?.exchange === '')
    return settledFindings(
      facts,
      [
        {
          code: 'mx-null',
          verdict: 'wrong',
          headline: 'A null MX declares that this domain receives no mail (RFC 7505).',
          remedy: `Replace the null MX by the ${plural(publish.length, 'record', 'records')} below.`,
          publish,
        },
      ],
      good,
    );
  const ours = values.find(({ exchange }) => exchange === host.name);
  const standby = values.filter(({ exchange }) => host.standby?.includes(exchange));
  const isNull = values.some(({ exchange }) => exchange === '');
  const strangers = values.filter(({ exchange }) => exchange !== '' && exchange !== host.name && !host.standby?.includes(exchange));
  const twice = values.filter(({ exchange }, at) => values.findIndex((one) => one.exchange === exchange) !== at);
  const { faults: broken, working, unknown } = await sortStrangers(domain, host, strangers, lookup);
  faults.push(...broken.map((fault) => ({ ...fault, publish })));
  if (unknown !== null) return unanswered(facts, unknown.reason, unknown.name);
  if (working.length > 0 && !ours && broken.length === 0)
    faults.push({
      code: 'mx-elsewhere',
      verdict: 'wrong',
      headline: 'Mail for this domain goes to another server.',
      remedy: `Replace ${plural(values.length, 'the record', 'the records')} seen by ${plural(publish.length, 'the one', 'those')} below.`,
      byProvider: 'Or give the domain the role `away`, if its mail is hosted there.',
      publish,
    });
  else if (working.length > 0) {
    const first = !ours || working.some(({ preference }) => preference <= ours.preference);
    faults.push({
      code: 'mx-left-over',
      verdict: first ? 'wrong' : 'weak',
      headline: `${working.map(({ exchange }) => exchange).join(' and ')} ${plural(working.length, 'is', 'are')} published beside our host.`,
      remedy: `Remove ${mxWords(working)}; keep only ${plural(publish.length, 'the record', 'the records')} below.`,
      publish,
    });
  }
  if (isNull)
    faults.push({
      code: 'mx-null-beside',
      verdict: 'wrong',
      headline: 'A null MX (the domain receives no mail) is published beside other records.',
      remedy: 'Remove the record “MX 0 .”.',
      publish,
    });
  if (twice.length > 0)
    faults.push({
      code: 'mx-twice',
      verdict: 'weak',
      headline: `${[...new Set(twice.map(({ exchange }) => exchange || 'The null MX'))].join(' and ')} is published more than once, with different numbers.`,
      remedy: `Remove ${mxWords(twice)}.`,
      publish,
    });
  if (!ours && standby.length > 0 && faults.length === 0)
    faults.push({
      code: 'mx-standby-only',
      verdict: 'wrong',
      headline: 'Only our standby host is published; this host, which has the mailboxes, is not.',
      remedy: 'Publish the MX records below.',
      publish,
    });
  const early = standby.filter(({ preference }) => ours && preference <= ours.preference);
  if (early.length > 0)
    faults.push({
      code: 'mx-order',
      verdict: 'wrong',
      headline: `The standby host comes before this one, or beside it: ${texts(values).join(', ')}. The lower number is tried first.`,
      remedy: 'Publish the records with the preferences below.',
      publish,
    });
  const missing = (host.standby ?? []).filter((name) => !values.some(({ exchange }) => exchange === name));
  if (ours && missing.length > 0)
    faults.push({
      code: 'mx-standby-missing',
      verdict: 'weak',
      headline: `Our standby host ${missing.join(' and ')} is not published.`,
      remedy: 'Add the missing records below.',
      publish,
    });
  for (const address of ours ? host.addresses : []) {
    const forward = await lookUp(lookup, host.name, address.includes(':') ? 'AAAA' : 'A');
    if (forward.kind === 'failed') return unanswered(facts, forward.reason, host.name);
    if (forward.alias && !faults.some((one) => one.code === 'mx-alias'))
      faults.push({
        code: 'mx-alias',
        verdict: 'wrong',
        headline: `${host.name} is an alias (CNAME) of ${forward.alias}.`,
        byProvider: `Publish ${host.name} in the host’s zone with its own addresses, and without the CNAME.`,
      });
    if (forward.kind === 'none' || !forward.values.some((value) => sameAddress(value, address)))
      faults.push({
        code: 'mx-host-unresolved',
        verdict: 'wrong',
        headline: `${host.name} does not resolve to ${address}.`,
        byProvider: `Publish ${address.includes(':') ? 'an AAAA' : 'an A'} record for ${host.name} with ${address} in the host’s zone.`,
      });
  }
  return settledFindings(facts, faults, good);
}

/** Sorts MX targets that are not ours: what can't work as a target, and what leads to another server that works. */
async function sortStrangers(
  domain: string,
  host: HostFacts,
  strangers: readonly MxValue[],
  lookup: Lookup,
): Promise<{ faults: FindingDraft[]; working: MxValue[]; unknown: { name: string; reason: string } | null }> {
  const faults: FindingDraft[] = [];
  const working: MxValue[] = [];
  for (const value of strangers) {
    const { exchange } = value;
    const replace = `Replace ${mxWords([value])} with the record below.`;
    if (ipaddr.isValid(exchange)) {
      faults.push({
        code: 'mx-address',
        verdict: 'wrong',
        headline: `The MX record names the address ${exchange} instead of a host.`,
        remedy: replace,
      });
      continue;
    }
    if (exchange === `${host.name}.${domain}`) {
      faults.push({
        code: 'mx-doubled-target',
        verdict: 'wrong',
        headline: `The DNS form has appended the zone to the target: ${exchange}.`,
        remedy: `Enter the target with a trailing dot, “${host.name}.”, if the form appends the zone.`,
      });
      continue;
    }
    const answers = [await lookUp(lookup, exchange, 'A'), await lookUp(lookup, exchange, 'AAAA')];
    const found = answers.find((answer) => answer.kind === 'found');
    if (found?.kind === 'found' && found.alias !== null)
      faults.push({
        code: 'mx-alias',
        verdict: 'wrong',
        headline: `${exchange} is an alias (CNAME) of ${found.alias}.`,
        remedy: replace,
      });
    else if (found) working.push(value);
    else {
      const silent = answers.find((answer) => answer.kind === 'failed');
      if (silent?.kind === 'failed') return { faults, working, unknown: { name: exchange, reason: silent.reason } };
      faults.push({
        code: 'mx-target-unresolved',
        verdict: 'wrong',
        headline: `${exchange} has no address: it does not resolve.`,
        remedy: replace,
      });
    }
  }
  return { faults, working, unknown: null };
}

/** For role `away`: the domain's mail must not be led here. */
export async function checkMxAway(domain: string, host: HostFacts, lookup: Lookup): Promise<Finding[]> {
  const answer = await lookUp(lookup, domain, 'MX');
  const values = answer.kind === 'found' ? inOrder(answer.values) : [];
  const facts: SubjectFacts = { subject: 'mx', name: domain, expected: ['another server than this one'], seen: texts(values) };
  if (answer.kind === 'failed') return unanswered(facts, answer.reason);
  const faults: FindingDraft[] = [];
  if (values.some(({ exchange }) => exchange === host.name))
    faults.push({
      code: 'mx-here-but-away',
      verdict: 'wrong',
      headline: 'The MX records point here, but the domain’s role is `away`.',
      byProvider: `Remove the MX record that names ${host.name}, or give the domain the role \`home\`.`,
    });
  if (values.length === 0)
    faults.push({
      code: 'mx-none-away',
      verdict: 'missing',
      headline: 'No MX record is published.',
      remedy: 'Have the customer publish the MX record of the server that has the mailboxes.',
    });
  return settledFindings(facts, faults, {
    code: 'mx-away-good',
    verdict: 'good',
    headline: 'Mail goes elsewhere, as the role `away` expects.',
  });
}

/** For the roles `pass-on` and `standby`: another server has the mailboxes, and the MX records say when mail comes here. */
export async function checkMxElsewhere(domain: string, role: 'pass-on' | 'standby', host: HostFacts, lookup: Lookup): Promise<Finding[]> {
  const answer = await lookUp(lookup, domain, 'MX');
  const values = answer.kind === 'found' ? inOrder(answer.values) : [];
  const expected = role === 'pass-on' ? [`10 ${host.name}`] : ['its own server first', `${host.name} with a higher number`];
  const facts: SubjectFacts = { subject: 'mx', name: domain, expected, seen: texts(values) };
  if (answer.kind === 'failed') return unanswered(facts, answer.reason);
  const ours = values.find(({ exchange }) => exchange === host.name);
  const best = values[0]?.preference ?? 0;
  const good: FindingDraft =
    role === 'pass-on'
      ? {
          code: 'mx-pass-on-good',
          verdict: 'good',
          headline: 'Mail for this domain arrives here and is passed on, as the role `pass-on` expects.',
        }
      : {
          code: 'mx-standby-good',
          verdict: 'good',
          headline: 'This host is the domain’s backup MX, as the role `standby` expects.',
        };
  if (!ours)
    return settledFindings(
      facts,
      [
        role === 'pass-on'
          ? {
              code: 'mx-pass-on-absent',
              verdict: values.length === 0 ? 'missing' : 'wrong',
              headline: 'The role is `pass-on`, but no MX record points here.',
              byProvider: `Publish “MX 10 ${host.name}” as the only record, or give the domain the role that matches its records.`,
            }
          : {
              code: 'mx-standby-absent',
              verdict: values.length === 0 ? 'missing' : 'wrong',
              headline: 'The role is `standby`, but this host is not among the MX records.',
              remedy: `Add “MX ${best + 10} ${host.name}” after the domain’s own server.`,
            },
      ],
      good,
    );
  const other = values.find(({ exchange }) => exchange !== host.name);
  const faults: FindingDraft[] = [];
  if (role === 'standby' && (!other || ours.preference <= other.preference))
    faults.push({
      code: 'mx-standby-first',
      verdict: 'wrong',
      headline: `This host comes first: ${texts(values).join(', ')}. The lower number is tried first.`,
      remedy: `Publish the domain’s own server with a lower number than ${host.name}.`,
      byProvider: 'Or give the domain the role `pass-on` or `home`.',
    });
  if (role === 'pass-on' && other && other.preference <= ours.preference)
    faults.push({
      code: 'mx-around',
      verdict: 'weak',
      headline: `${other.exchange} is published with the same or a lower number: some mail bypasses this host.`,
      byProvider: `Have ${mxWords([other])} removed, or give the domain the role \`standby\`.`,
    });
  return settledFindings(facts, faults, good);
}

const plural = (count: number, one: string, more: string): string => (count === 1 ? one : more);
