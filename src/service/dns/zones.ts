import { isIpAddress } from '../../core/address/ip-address.ts';
import { TSIG_ALGORITHMS, type TsigAlgorithm } from '../../core/vocabulary.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/zones.ts';
import { badInput, Problem } from '../base/problem.ts';
import { asciiDomain } from '../directory/domains.ts';
import type { DnsDeps } from './deps.ts';

export interface ZoneInput {
  name: string;
  server: string;
  port: number;
  keyName: string;
  algorithm: TsigAlgorithm;
  secret: string;
}

export const listZones = ({ db }: DnsDeps): store.DnsZone[] => store.listZones(db);

export function requireZone({ db }: DnsDeps, text: string): store.DnsZone {
  const name = asciiDomain(text, null);
  const zone = store.findZone(db, name);
  if (!zone) throw new Problem('not-found', `The zone ${name} is not set.`, 'List them: tenedor zone list');
  return zone;
}

/** The set zone in which a name lies; the deepest one counts. */
export function zoneOf({ db }: DnsDeps, name: string): store.DnsZone | null {
  const zones = store.zonesByName(db);
  for (let from = 0; zones.size > 0; ) {
    const zone = zones.get(name.slice(from));
    if (zone) return zone;
    from = name.indexOf('.', from) + 1;
    if (from === 0) break;
  }
  return null;
}

/** Sets where a zone takes updates, and the key; an existing one is replaced. */
export async function setZone(context: DnsDeps, input: ZoneInput): Promise<store.DnsZone> {
  const { db, clock } = context;
  const name = asciiDomain(input.name);
  const keyName = input.keyName.trim().toLowerCase().replace(/\.$/, '');
  const secret = input.secret.trim();
  if (!isIpAddress(input.server))
    throw badInput(
      'server',
      `“${input.server.slice(0, 80)}” is not an address.`,
      'Give the address of the zone’s primary name server, like 192.0.2.53.',
    );
  if (!/^[a-z0-9_]([a-z0-9_.-]{0,250}[a-z0-9_])?$/.test(keyName))
    throw badInput('keyName', `“${keyName.slice(0, 80)}” is not a valid key name.`, 'Use the name from the name server’s configuration.');
  if (!TSIG_ALGORITHMS.includes(input.algorithm))
    throw badInput('algorithm', 'That algorithm is not known.', `Use one of ${TSIG_ALGORITHMS.join(', ')}.`);
  if (!/^[A-Za-z0-9+/]{16,}={0,2}$/.test(secret))
    throw badInput('secret', 'The secret is not base64 of at least 12 bytes.', 'Copy it from the name server’s key, without quotes.');
  await db.commit(() => {
    store.putZone(
      db,
      { name, server: input.server, port: input.port, keyName, algorithm: input.algorithm, secret: context.keyFile.seal(secret) },
      clock.now(),
    );
    addEntry(db, { at: clock.now(), journeyId: null, domain: name, event: 'zone-set', data: { server: input.server, keyName } });
  });
  return requireZone(context, name);
}

export async function removeZone(context: DnsDeps, name: string): Promise<void> {
  const { db, clock } = context;
  await db.commit(() => {
    const zone = requireZone(context, name);
    store.removeZone(db, zone.id);
    addEntry(db, { at: clock.now(), journeyId: null, domain: zone.name, event: 'zone-removed', data: {} });
  });
}
