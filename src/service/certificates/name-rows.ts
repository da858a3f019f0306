import { type CertificateFinding, certificateFindings } from '../../core/certificates/findings.ts';
import { breathe } from '../../core/pieces.ts';
import type { CertificateSource, NameLead, Verdict } from '../../core/vocabulary.ts';
import {
  type CertificateName,
  findCertificateName,
  findDomainWithMailName,
  listCertificateNames,
  listDomainsWithMailNames,
} from '../../store/certificates.ts';
import { Problem } from '../base/problem.ts';
import { asciiDomain } from '../directory/domains.ts';
import { zoneOf } from '../dns/zones.ts';
import type { CertificateDeps } from './deps.ts';

/** A name that clients connect to, with the certificate that it is answered with. Times in ms. */
export interface NameRow {
  name: string;
  /** Whose people connect to it; null for the host’s own name, and for names that somebody asked for. */
  domain: string | null;
  verdict: Verdict;
  findings: CertificateFinding[];
  /** The certificate that is for it; null where there is none, and that of the host is shown. */
  certificate: {
    source: CertificateSource;
    /** Where it lies, as people know it. */
    place: string;
    /** The first of them. */
    names: string[];
    nameCount: number;
    issuer: string;
    from: number;
    until: number;
    key: string;
    fingerprint: string;
  } | null;
  /** What comes next, and when; empty where nothing does. */
  next: string;
  nextAt: number | null;
}

/** What stands before a domain’s name where its people connect. */
const OF_A_DOMAIN = ['mail.', 'autoconfig.'];
const ROWS_AT_ONCE = 200;

const WORST: readonly Verdict[] = ['wrong', 'missing', 'waiting', 'weak', 'unknown', 'good'];

/** Names of one certificate that are shown with each of them: a thousand with each of a thousand are shown to nobody. */
const MOST_SHOWN = 20;

/** The rows of some names. */
export async function certificateRows(context: CertificateDeps, names: readonly string[]): Promise<NameRow[]> {
  const rows: NameRow[] = [];
  for (const name of names) {
    rows.push(certificateRow(context, name));
    if (rows.length % ROWS_AT_ONCE === 0) await breathe();
  }
  return rows;
}

/** All names that a certificate is wanted or held for: the host, the domains’, and what others were added or asked for. */
export async function listNames(context: CertificateDeps): Promise<NameRow[]> {
  const { db, host, certificates } = context;
  const own = await wantedOfDomains(context);
  const states = new Map((await listCertificateNames(db)).map((one) => [one.name, one]));
  const asked = [...states.values()].filter((one) => one.domainId === null);
  const names = new Set([host.name, ...own.keys(), ...asked.map((one) => one.name), ...certificates.all.flatMap((one) => one.names)]);
  const isShown = (name: string): boolean =>
    !isOptional(name) || states.get(name)?.leads === 'here' || certificates.for(name) !== undefined;
  const rows: NameRow[] = [];
  for (const name of [...names].filter(isShown)) {
    rows.push(rowOf(context, name, own.get(name)?.domain ?? null, states.get(name)));
    if (rows.length % ROWS_AT_ONCE === 0) await breathe();
  }
  return rows;
}

/** Where programs ask for a domain’s settings: nice to have, and not spoken of where it does not lead here. */
const isOptional = (name: string): boolean => name.startsWith('autoconfig.');

interface Wanting {
  domain: string;
  domainId: number;
}

/** `mail.DOMAIN` of each home domain, unless it is kept on the host’s name, and the name at which programs ask for its settings. */
export async function wantedOfDomains({ db, host }: Pick<CertificateDeps, 'db' | 'host'>): Promise<Map<string, Wanting>> {
  const wanted = new Map<string, Wanting>();
  for (const { id, name } of await listDomainsWithMailNames(db))
    for (const prefix of OF_A_DOMAIN) if (prefix + name !== host.name) wanted.set(prefix + name, { domain: name, domainId: id });
  return wanted;
}

/** The domain that wants a name; null where none does. */
export function wantedBy({ db, host }: Pick<CertificateDeps, 'db' | 'host'>, name: string): Wanting | null {
  const prefix = OF_A_DOMAIN.find((one) => name.startsWith(one));
  const found = prefix === undefined || name === host.name ? undefined : findDomainWithMailName(db, name.slice(prefix.length));
  return found ? { domain: found.name, domainId: found.id } : null;
}

export function certificateRow(context: CertificateDeps, text: string): NameRow {
  const name = requireName(context, text);
  return rowOf(context, name, wantedBy(context, name)?.domain ?? null, findCertificateName(context.db, name));
}

/** A name as it is compared, which may have a star before it. */
export function nameOf(text: string): string {
  const star = text.startsWith('*.') ? '*.' : '';
  return star + asciiDomain(text.slice(star.length), 'name');
}

export function requireName(context: CertificateDeps, text: string): string {
  const name = nameOf(text);
  const isKnown =
    name === context.host.name || wantedBy(context, name) || findCertificateName(context.db, name) || context.certificates.for(name);
  if (isKnown) return name;
  throw new Problem(
    'not-found',
    `There is no certificate for ${name}, and none is due.`,
    'List host names (tenedor certificate list), or fetch one: tenedor certificate fetch NAME',
  ).about(name);
}

function rowOf(context: CertificateDeps, name: string, domain: string | null, state: CertificateName | undefined): NameRow {
  const { clock, certificates } = context;
  const held = certificates.for(name);
  const now = clock.now();
  const findings: CertificateFinding[] = held
    ? certificateFindings(name, held.chain, { now, isRenewed: held.source === 'fetched' })
    : [notHeld(context, name, domain, state)];
  if (held && state?.trouble && held.source === 'fetched') findings.push(troubleOf(state, 'weak', name));
  const rank = (one: CertificateFinding): number => WORST.indexOf(one.verdict);
  findings.sort((one, other) => rank(one) - rank(other));
  const { next, nextAt } = whatNext(context, held?.source ?? null, state);
  return {
    name,
    domain,
    verdict: findings[0]?.verdict ?? 'unknown',
    findings,
    certificate: held
      ? {
          source: held.source,
          place: held.row === null ? held.id : 'the database',
          names: held.names.slice(0, MOST_SHOWN),
          nameCount: held.names.length,
          issuer: held.chain.facts.issuer,
          from: held.notBefore,
          until: held.notAfter,
          key: `${held.chain.facts.key.type} ${held.chain.facts.key.bits}`,
          fingerprint: held.chain.facts.fingerprint,
        }
      : null,
    next: held && next === '' && held.source !== 'self-signed' ? 'to be replaced' : next,
    nextAt: nextAt ?? (held && held.source !== 'self-signed' ? held.notAfter : null),
  };
}

const troubleOf = ({ trouble, troubleCode }: CertificateName, verdict: Verdict, name: string): CertificateFinding => ({
  code: troubleCode ?? 'certificate-failed',
  verdict,
  text: (trouble ?? '').replace(/^./, (letter) => letter.toUpperCase()),
  action: `Fix that, then try again: tenedor certificate fetch ${name}`,
});

const LEADS: Record<NameLead, string> = {
  here: 'leads here',
  elsewhere: 'points to another address',
  nowhere: 'has no address in DNS',
  unknown: 'has not been looked up yet, or DNS gave no answer',
};

/** Why a name has no certificate of its own. */
function notHeld(context: CertificateDeps, name: string, domain: string | null, state: CertificateName | undefined): CertificateFinding {
  const leads = state?.leads ?? 'unknown';
  // What leads elsewhere can't be had, whatever was tried; in a zone of ours it can all the same.
  if (domain !== null && leads !== 'here' && !zoneOf(context, name))
    return {
      code: 'certificate-waiting',
      verdict: 'waiting',
      text: `It ${LEADS[leads]}; a certificate is fetched once it points here.`,
      action: `Publish its address, or keep the domain on the host’s name: tenedor domain set ${domain} --mail-name host`,
    };
  if (state?.trouble) return troubleOf(state, 'wrong', name);
  if (context.authority && whyNotShown(context, name) === null)
    return { code: 'certificate-waiting', verdict: 'waiting', text: `${name} points here; a certificate is being fetched.`, action: '' };
  return {
    code: 'certificate-other-name',
    verdict: 'missing',
    text: `There is no certificate for ${name}${context.authority ? `, and none can be fetched: ${whyNotShown(context, name)}` : ', and no authority is set to fetch one from'}.`,
    action: 'Set [authority] in the configuration, or add a certificate: tenedor certificate add',
  };
}

/** Why nothing can be shown to an authority for a name; null where something can. */
export function whyNotShown(context: CertificateDeps, name: string): string | null {
  if (zoneOf(context, name)) return null;
  if (name.startsWith('*.')) return 'a wildcard name is validated by DNS, and its zone is not updated from here (tenedor zone set)';
  return context.hasChallengePort
    ? null
    : 'no [[listener]] with service = "challenge" (port 80) is configured, and its zone is not updated from here';
}

function whatNext(
  { clock }: CertificateDeps,
  source: CertificateSource | null,
  state: CertificateName | undefined,
): Pick<NameRow, 'next' | 'nextAt'> {
  if (state?.nextAt && state.failures > 0) return { next: 'tried again', nextAt: state.nextAt };
  if (source === 'fetched' && state?.renewAt)
    return { next: state.renewAt <= clock.now() ? 'renewed now' : 'renewed', nextAt: state.renewAt };
  return { next: '', nextAt: null };
}
