import { bracketed } from '../../core/address/ip-address.ts';
import type { SettingChange } from '../overview/deps.ts';
import type { Config } from './config.ts';

/** What is taken over without a restart. */
const LIVE = ['log.level', 'dns.resolvers', 'dns.block_lists', 'dns.refuse_listed', 'connections', 'backup'];
/** Keys whose parts are told one by one. */
const TABLES = [
  'host',
  'dns',
  'mail',
  'backup',
  'log',
  'connections',
  'access',
  'checks',
  'outgoing',
  'mailboxes',
  'secrets',
  'journal',
  'ledger',
  'authority',
];

/** What is different between two configurations, in the order of the file. */
export function configChanges(before: Config, after: Config): SettingChange[] {
  const [old, now] = [flat(before), flat(after)];
  return [...new Set([...old.keys(), ...now.keys()])]
    .filter((key) => old.get(key) !== now.get(key))
    .map((key) => ({
      key,
      from: old.get(key) ?? null,
      to: now.get(key) ?? null,
      isLive: LIVE.some((one) => key === one || key.startsWith(`${one}.`)),
    }));
}

function flat(config: Config): Map<string, string> {
  const found = new Map<string, string>();
  for (const [name, value] of Object.entries(config))
    if (TABLES.includes(name) && value !== undefined)
      for (const [key, inner] of Object.entries(value as object)) found.set(`${name}.${key}`, written(inner));
    else if (value !== undefined) found.set(name, written(value));
  return found;
}

/** As JSON, with name servers the way that the file has them. */
const written = (value: unknown): string =>
  JSON.stringify(value, (_key, inner: unknown) => {
    const { address, port, ...more } = (inner ?? {}) as { address?: unknown; port?: unknown };
    return typeof address === 'string' && typeof port === 'number' && Object.keys(more).length === 0
      ? `${bracketed(address)}:${port}`
      : inner;
  });
