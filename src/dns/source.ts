import { getDomain } from 'tldts';
import { type DnsName, dnsName } from '../core/address/domain.ts';
import type { Gate } from '../core/gate.ts';
import { type Answer, type Lookup, lookUp, type RecordType } from '../core/records/answers.ts';
import { type Asking, askInTurn, type ServerReply } from './asking.ts';
import { absenceTtl, answerIn, referral } from './reply.ts';
import { endless } from './resolver.ts';
import type { ServerHealth } from './server-health.ts';
import type { Server } from './transport.ts';

export interface SourceSettings {
  /** Finds the name servers, by the configured resolvers. */
  resolver: Lookup;
  timeoutMs: number;
  /** Leads a server's address elsewhere. */
  dial: (server: Server) => Server;
  gate: Gate;
  health: ServerHealth;
}

const DNS_PORT = 53;
const LONGEST_CHAIN = 8;
const MOST_REFERRALS = 4;
export const MOST_SERVERS = 4;

interface Zone {
  apex: string;
  /** Every address of every name server, in the order in which they are asked. */
  servers: Server[];
  /** One address of each name server. */
  hosts: Server[];
}

/**
 * Asks each zone's own name servers, found by delegation, so that no cache stands between. One is made for a run of checks
 * and remembers what it has heard during that run. Where no delegation is found, the resolvers' answer is all there is.
 */
export class SourceResolver {
  private readonly zones = new Map<string, Zone>();
  private readonly organisations = new Map<string, string | null>();
  private readonly delegations = new Map<string, Promise<Zone | null>>();
  private readonly answers = new Map<string, Promise<Answer<RecordType>>>();
  /** Whether any zone's own name server has answered in this run. */
  private heard = false;

  constructor(private readonly settings: SourceSettings) {}

  readonly lookup: Lookup = <T extends RecordType>(name: DnsName, type: T): Promise<Answer<T>> => {
    const key = `${type} ${name}`;
    let answer = this.answers.get(key);
    if (!answer) {
      answer = this.find(name, type, 0);
      this.answers.set(key, answer);
    }
    return answer as Promise<Answer<T>>;
  };

  /**
   * Asks a further name server of the zone only, 1 for the second: one that lags behind still gives the old answer.
   * Where the zone has no such server, there is no answer.
   */
  readonly further =
    (place: number): Lookup =>
    async <T extends RecordType>(name: DnsName, type: T): Promise<Answer<T>> => {
      const zone = await this.zoneOf(name);
      const server = zone?.hosts[place];
      if (!server) return { kind: 'failed', reason: 'the zone has no further name server' };
      const reply = await askInTurn([server], name, type, this.asking(zone, 1));
      if (reply.kind === 'failed') return reply;
      // An alias is followed at the source; here only the server's own answer counts.
      return referral(reply.message, zone.apex, name) === null
        ? ((await this.read(reply, name, type, LONGEST_CHAIN)) as Answer<T>)
        : { kind: 'failed', reason: 'the server sends elsewhere' };
    };

  private asking({ apex }: Zone, tries: number): Asking {
    const { timeoutMs, gate, health } = this.settings;
    return { tries, timeoutMs, zone: apex, gate, health };
  }

  private async find(name: DnsName, type: RecordType, depth: number): Promise<Answer<RecordType>> {
    let zone = await this.zoneOf(name);
    for (let referrals = 0; zone !== null && referrals < MOST_REFERRALS; referrals += 1) {
      const reply = await askInTurn(zone.servers, name, type, this.asking(zone, 2));
      if (reply.kind === 'failed') return this.heard ? reply : this.fromResolvers(name, type, reply);
      this.heard = true;
      const further = referral(reply.message, zone.apex, name);
      if (further === null) return this.read(reply, name, type, depth);
      zone = await this.open(further.apex, further.names);
    }
    return this.settings.resolver(name, type) as Promise<Answer<RecordType>>;
  }

  /** Where no name server at all was reached, a firewall lets only the resolvers ask: what they say is all there is then. */
  private async fromResolvers(name: DnsName, type: RecordType, failure: Answer<RecordType>): Promise<Answer<RecordType>> {
    const answer = (await this.settings.resolver(name, type)) as Answer<RecordType>;
    return answer.kind === 'failed' ? failure : answer;
  }

  private async read({ message, by }: ServerReply, name: DnsName, type: RecordType, depth: number): Promise<Answer<RecordType>> {
    const { values, ttl, target, dname, isEndless } = answerIn(message, name, type);
    if (isEndless) return endless(name, by);
    const led = { alias: target === name ? null : target, ...(dname === null ? {} : { dname }) };
    if (values.length > 0) return { kind: 'found', values, ttl, ...led, by } as Answer<RecordType>;
    if (target === name)
      return {
        kind: 'none',
        reason: message.rcode === 'NXDOMAIN' ? 'no-such-name' : 'no-such-record',
        ttl: absenceTtl(message),
        by,
      };
    if (depth >= LONGEST_CHAIN) return endless(name, by);
    // An alias may lead into another zone, with other servers.
    const next = dnsName(target);
    const further: Answer<RecordType> = next === null ? { kind: 'none', reason: 'no-such-name' } : await this.find(next, type, depth + 1);
    return further.kind === 'failed' ? further : ({ ...further, ...led, alias: further.alias ?? target } as Answer<RecordType>);
  }

  /** The known zone that is nearest to the name, else the one that delegation leads to. */
  private async zoneOf(name: string): Promise<Zone | null> {
    const organisation = this.organisationOf(name);
    const known = this.nearestZone(name);
    if (known && (organisation === null || known.apex.length >= organisation.length)) return known;
    // Most zones begin at the registered domain; a deeper cut shows itself by a referral.
    const likely = organisation !== null && (name === organisation || name.endsWith(`.${organisation}`)) ? organisation : null;
    let zone = likely === null ? null : await this.zoneAt(likely);
    for (let from = 0; zone === null; ) {
      const apex = name.slice(from);
      if (apex !== likely) zone = await this.zoneAt(apex);
      from = name.indexOf('.', from) + 1;
      if (from === 0) break;
    }
    return zone;
  }

  /** The zone that begins at a name; null where none does. Each is asked for once. */
  private zoneAt(apex: string): Promise<Zone | null> {
    let delegation = this.delegations.get(apex);
    if (!delegation) {
      delegation = this.delegation(apex);
      this.delegations.set(apex, delegation);
    }
    return delegation;
  }

  /** Several questions are about one name. */
  private organisationOf(name: string): string | null {
    let organisation = this.organisations.get(name);
    if (organisation === undefined) {
      organisation = getDomain(name, { allowPrivateDomains: true, validateHostname: false, extractHostname: false });
      this.organisations.set(name, organisation);
    }
    return organisation;
  }

  private nearestZone(name: string): Zone | null {
    for (let from = 0; ; ) {
      const zone = this.zones.get(name.slice(from));
      if (zone) return zone;
      from = name.indexOf('.', from) + 1;
      if (from === 0) return null;
    }
  }

  private async delegation(apex: string): Promise<Zone | null> {
    const answer = await lookUp(this.settings.resolver, apex, 'NS');
    return answer.kind === 'found' && answer.alias === null ? this.open(apex, answer.values) : null;
  }

  private async open(apex: string, names: readonly string[]): Promise<Zone | null> {
    const servers: Server[] = [];
    const hosts: Server[] = [];
    for (const name of names.slice(0, MOST_SERVERS)) {
      const before = servers.length;
      for (const type of ['A', 'AAAA'] as const) {
        const answer = await lookUp(this.settings.resolver, name, type);
        for (const address of answer.kind === 'found' ? answer.values.slice(0, 1) : [])
          servers.push(this.settings.dial({ address, port: DNS_PORT }));
      }
      hosts.push(...servers.slice(before, before + 1));
    }
    if (servers.length === 0) return null;
    const zone = { apex, servers, hosts };
    this.zones.set(apex, zone);
    return zone;
  }
}
