import { readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { expect, it } from 'vitest';
import { configFaults, parseConfig } from '../../../src/service/app/config.ts';

const EXAMPLE = readFileSync(fileURLToPath(new URL('../../../tenedor.example.toml', import.meta.url)), 'utf8');
const fault = (text: string): string => {
  try {
    parseConfig(text, 't.toml', '/etc/tenedor');
    return 'accepted';
  } catch (error) {
    return (error as Error).message;
  }
};

it('the example is a good file', () => {
  const config = parseConfig(EXAMPLE, 'tenedor.example.toml', '/srv/mail');
  expect(config.host.name).toBe('mail.provider.example');
  expect(config.data).toBe('/var/lib/tenedor');
  expect(config.listener.map((one) => one.service)).toEqual(['smtp', 'submission', 'submissions', 'imap', 'imaps', 'pop3', 'pop3s', 'web']);
});

it('standby hosts, outlet includes, block lists and the schedule are read; what is left out has a default', () => {
  const config = parseConfig(EXAMPLE, 't.toml', '/');
  expect([config.host.standby, config.host.outlet_includes, config.dns.block_lists, config.checks.every_minutes]).toEqual([[], [], [], 60]);
  const set = EXAMPLE.replace(/^# (standby|outlet_includes|block_lists) = \["([^"]+)"\]/gm, '$1 = ["$2."]').replace(
    'every_minutes = 60',
    'every_minutes = 0',
  );
  const other = parseConfig(set.replaceAll('reserve.', 'RESERVE.'), 't.toml', '/');
  expect([other.host.standby, other.host.outlet_includes, other.dns.block_lists, other.checks.every_minutes]).toEqual([
    ['reserve.provider.example'],
    ['spf.relay.example'],
    ['blocks.example'],
    0,
  ]);
  expect(fault(EXAMPLE.replace('# standby = ["reserve.provider.example"]', 'standby = ["no name"]'))).toContain(
    'host.standby[1]: expected a host name',
  );
  expect(fault(EXAMPLE.replace('every_minutes = 60', 'every_minutes = -1'))).toContain('checks.every_minutes: expected not below 0');
});

const lines = EXAMPLE.split('\n');
const lineOf = (text: string, nth = 1): number => {
  let left = nth;
  return lines.findIndex((line) => line.startsWith(text) && --left === 0) + 1;
};

it.each([
  [
    'name = "mail.provider.example"',
    'name = "provider"',
    `line ${lineOf('name =')}: host.name: expected a fully qualified host name below a domain, like mail.provider.example, found "provider".`,
  ],
  ['port = 587', 'port = 70000', `line ${lineOf('port =', 2)}: listener[2].port: expected a port from 0 to 65535, found 70000.`],
  ['port = 587', 'port = 587\ntls = true', 'listener[2].tls: expected false: submissions, pop3s and imaps always speak TLS'],
  ['port = 8025', 'port = 8025\nproxy = true', 'listener[8].proxy: expected false: web and challenge ports do not support it'],
  ['port = 587', 'prot = 587', 'listener[2].port is missing; expected a port number.'],
  [
    'service = "pop3"',
    'service = "gopher"',
    `line ${lineOf('service =', 6)}: listener[6].service: expected one of smtp, submission, submissions, pop3, pop3s, imap, imaps, web, challenge, found "gopher".`,
  ],
  ['postmaster =', 'postmister =', 'host.postmaster is missing'],
  [
    'level = "info"',
    'level = "loud"',
    `line ${lineOf('level =')}: log.level: expected one of debug, info, warn, error, silent, found "loud".`,
  ],
  [
    'resolvers = ["127.0.0.1:53"]',
    'resolvers = ["localhost"]',
    'dns.resolvers[1]: expected an address and port like 127.0.0.1:53 or [::1]:53, found "localhost".',
  ],
  ['level = "info"', 'level = "info"\ncolour = "red"', 'log.colour: there is no such key.'],
  ['level = "info"', 'level = "info"\n[colours]\nred = 1', `line ${lineOf('level =') + 1}: colours: there is no such key.`],
  ['level = "info"', 'level = "info"\n"a(b" = 1', 'there is no such key.'],
  ['level = "info"', 'level = info', `line ${lineOf('level =')}: this is not TOML`],
])('%s as %s is refused with key, line and what was expected', (from, to, message) => {
  expect(EXAMPLE).toContain(from);
  expect(fault(EXAMPLE.replace(from, to))).toContain(message);
});

it('an empty file says what is missing', () => {
  expect(fault('')).toBe('t.toml: data is missing; expected the path of a directory.');
});

it('all that is wrong is told at once, each with its line', () => {
  expect(configFaults(EXAMPLE, 't.toml')).toEqual([]);
  expect(configFaults('data = "d" "e"', 't.toml')).toEqual([expect.stringMatching(/^t\.toml, line 1: this is not TOML/)]);
  const bad = EXAMPLE.replace('port = 587', 'port = 70000')
    .replace(/^resolvers = .*/m, 'resolvers = ["127.0.0.1"]')
    .replace(/^level = .*/m, 'level = "loud"\ncolour = 1\nshape = 2');
  expect(bad).toContain('shape');
  expect(configFaults(bad, 't.toml').map((one) => one.replace(/^t\.toml, line \d+: (\S+?):? .*/, '$1'))).toEqual([
    'listener[2].port',
    'dns.resolvers[1]',
    'log.level',
    'log.colour',
    'log.shape',
  ]);
});
