import { MOST_QUESTIONS, recording } from '../../core/checks/evidence.ts';
import { proposeSheet } from '../../core/checks/proposed-sheet.ts';
import { type NextStage, STAGE_WORDS } from '../../core/dmarc/stages.ts';
import { breathe } from '../../core/pieces.ts';
import { type Lookup, lookUp, valueText } from '../../core/records/answers.ts';
import { reverseRequest, type SheetRecord } from '../../core/records/sheet.ts';
import { type Stand, type ZoneChange, zoneChanges } from '../../core/records/zone-changes.ts';
import { SHEET_TTL, zoneFile } from '../../core/records/zone-file.ts';
import type { Policy } from '../../core/vocabulary.ts';
import { hurryCheck } from '../../store/checks.ts';
import { allDomainNames, type Domain } from '../../store/domains.ts';
import { addEntry } from '../../store/journeys.ts';
import { listKeys } from '../../store/keys.ts';
import { type DnsZone, zoneSecret } from '../../store/zones.ts';
import { Problem } from '../base/problem.ts';
import { requireDomain } from '../directory/domains.ts';
import { nextStageOf } from './checks.ts';
import type { DnsDeps } from './deps.ts';
import { hostFor, sendsHere } from './domain-host.ts';
import { hostLeadsThere } from './host.ts';
import { zoneOf } from './zones.ts';

export interface RecordSheet {
  domain: string;
  records: SheetRecord[];
  /** As an RFC 1035 master file. */
  zone: string;
  /** What to know about single records. */
  notes: string[];
  dmarc: { stage: Policy; next: NextStage | null };
  /** The text with which the reverse records are asked for. */
  request: string;
  /** The set zone that can be updated from here; null when there is none. */
  updates: string | null;
}

/** Keys that should be published: those that sign, are to sign, or have signed what may be under way. */
const publishedKeys = ({ db }: DnsDeps, domain: Domain) => listKeys(db, domain.id).filter((key) => key.state !== 'retired');

const propose = (context: DnsDeps, domain: Domain, lookup: Lookup, sibling: string) =>
  proposeSheet(
    {
      domain: domain.name,
      host: hostFor(context, domain),
      keys: publishedKeys(context, domain),
      stage: domain.dmarcStage,
      role: domain.role,
      sends: sendsHere(context, domain),
    },
    recording(lookup, 2 * MOST_QUESTIONS).lookup,
    sibling,
  );

/** The record sheet of a domain, composed with what is published now. */
export async function recordSheet(context: DnsDeps, name: string): Promise<RecordSheet> {
  const domain = requireDomain(context, name);
  const { source, sibling } = context.dns.openViews();
  const { records, notes } = await propose(context, domain, source, sibling);
  const { host } = context;
  if (domain.role === 'home' && domain.twinOf === null && domain.mailName === 'own' && context.mailServer(domain) === host.name)
    notes.push(
      `Clients connect to ${host.name}. For the domain’s own host name, with an automatically fetched certificate, publish mail.${domain.name} with ${host.addresses.map((one) => `${one.includes(':') ? 'AAAA' : 'A'} ${one}`).join(' and ')}.`,
    );
  const next = nextStageOf(context, domain);
  if (next?.due)
    notes.push(
      `DMARC can advance to the stage ${STAGE_WORDS[next.stage]}: ${next.reason}. Then: tenedor domain set ${domain.name} --dmarc ${next.stage}`,
    );
  return {
    domain: domain.name,
    records,
    zone: zoneFile(domain.name, records),
    notes,
    dmarc: { stage: domain.dmarcStage, next },
    request: reverseRequest(context.host, hostLeadsThere(context)),
    updates: zoneOf(context, domain.name)?.name ?? null,
  };
}

export interface Publication {
  domain: string;
  zone: string;
  server: string;
  changes: ZoneChange[];
  /** Whether the zone was changed; false for a rehearsal, and when there was nothing to change. */
  published: boolean;
}

/** So often an update is made anew when somebody else changes the same records meanwhile. */
const MOST_TRIES = 5;

/** Brings a domain's zone in line with its sheet by dynamic update (RFC 2136), and asks the server afterwards whether it is. */
export async function publishRecords(context: DnsDeps, name: string, dryRun: boolean): Promise<Publication> {
  const domain = requireDomain(context, name);
  const zone = zoneOf(context, domain.name);
  if (!zone)
    throw new Problem(
      'not-here',
      `The zone of ${domain.name} is not updated from here: no server is set for it.`,
      `Set it with: tenedor zone set ${domain.name} --server ADDRESS --key NAME --secret-file FILE; or publish the records by hand: tenedor records ${domain.name}`,
    );
  const { dns, db, clock, keyFile } = context;
  let { changes, stand } = await pendingChanges(context, domain, zone);
  const publication = (published: boolean): Publication => ({
    domain: domain.name,
    zone: zone.name,
    server: zone.server,
    changes,
    published,
  });
  if (dryRun || changes.length === 0) return publication(false);
  const key = { name: zone.keyName, algorithm: zone.algorithm as 'hmac-sha256', secret: keyFile.open(zoneSecret(db, zone.id)) };
  let result = await dns.update(zone, zone.name, key, changes, SHEET_TTL, stand);
  for (let tries = 1; result.kind === 'changed' && tries < MOST_TRIES; tries += 1) {
    ({ changes, stand } = await pendingChanges(context, domain, zone));
    if (changes.length === 0) return publication(false);
    result = await dns.update(zone, zone.name, key, changes, SHEET_TTL, stand);
  }
  if (result.kind !== 'done')
    throw new Problem(
      'name-server',
      `The name server ${zone.server} did not change ${zone.name}: ${result.reason}.`,
      result.kind === 'refused'
        ? 'Check the key (tenedor zone list) and its permissions on the server. Nothing was changed.'
        : 'See what is published now: tenedor check DOMAIN',
    );
  const { changes: left } = await pendingChanges(context, domain, zone);
  if (left.length > 0)
    throw new Problem(
      'name-server',
      `The name server ${zone.server} accepted the update, but ${left.length} ${left.length === 1 ? 'record is' : 'records are'} still wrong.`,
      `List them: tenedor records publish ${domain.name} --dry-run`,
    );
  await db.commit(() => {
    hurryCheck(db, domain.id);
    const words = changes.map(({ action, type, name: at, value }) => `${action === 'add' ? '+' : '−'} ${type} ${at} ${value.slice(0, 60)}`);
    addEntry(db, {
      at: clock.now(),
      journeyId: null,
      domain: domain.name,
      event: 'records-published',
      data: { zone: zone.name, changes: words },
    });
  });
  return publication(true);
}

async function pendingChanges(context: DnsDeps, domain: Domain, zone: DnsZone): Promise<{ changes: ZoneChange[]; stand: Stand }> {
  const lookup = context.dns.openServer(zone);
  const { source, sibling } = context.dns.openViews();
  // The zone's own names are asked for at the server that will be changed; others wherever they are.
  const isWithin = (name: string): boolean => name === zone.name || name.endsWith(`.${zone.name}`);
  const both: Lookup = (name, type) => (isWithin(name) ? lookup(name, type) : source(name, type));
  const { records } = await propose(context, domain, both, sibling);
  const ours = records.filter((record) => record.where !== 'address-owner' && isWithin(record.name));
  const published = new Map<string, string[]>();
  for (const { name, type } of ours) {
    const answer = await lookUp(lookup, name, type);
    if (answer.kind === 'failed')
      throw new Problem(
        'name-server',
        `The name server ${zone.server} gives no answer about ${name}: ${answer.reason}.`,
        'Check its address and port: tenedor zone list',
      );
    published.set(`${type} ${name}`, answer.kind === 'found' && answer.alias === null ? answer.values.map(valueText) : []);
  }
  return { changes: zoneChanges(ours, (name, type) => published.get(`${type} ${name}`) ?? []), stand: published };
}

export interface PublicationOfAll {
  publications: Publication[];
  /** Domains that could not be brought in line, and why. */
  failures: { domain: string; reason: string }[];
  /** Domains whose zones are not run from here. */
  leftOut: string[];
}

/** The same for every domain whose zone is set, one after the other. */
export async function publishAll(context: DnsDeps, dryRun: boolean): Promise<PublicationOfAll> {
  const all: PublicationOfAll = { publications: [], failures: [], leftOut: [] };
  for (const name of allDomainNames(context.db)) {
    if (!zoneOf(context, name)) {
      all.leftOut.push(name);
      if (all.leftOut.length % 100 === 0) await breathe();
      continue;
    }
    try {
      all.publications.push(await publishRecords(context, name, dryRun));
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      all.failures.push({ domain: name, reason: error.detail });
    }
  }
  return all;
}
