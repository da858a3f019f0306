import { execFileSync } from 'node:child_process';
import { chmodSync, chownSync, existsSync, readFileSync, writeFileSync } from 'node:fs';
import { networkInterfaces } from 'node:os';
import { dirname, join, resolve } from 'node:path';
import { createInterface } from 'node:readline/promises';
import { CommandError, EXIT } from '../cli/errors.ts';
import { bold, dim, say, styled } from '../cli/output.ts';
import { isIpAddress } from '../core/address/ip-address.ts';
import { lookUp } from '../core/records/answers.ts';
import { reverseName, sameAddress } from '../core/records/reverse-name.ts';
import { Resolver } from '../dns/resolver.ts';
import { PROJECT } from '../project.ts';
import { type Config, configFaults, parseConfig } from '../service/app/config.ts';
import { KeyFile } from '../store/key-file.ts';
import { makeFolder } from '../store/make-folder.ts';
import { isInUse, reasonOf } from '../store/open-data.ts';
import { lookedAt } from './config-check.ts';
import { configuration, type HostAnswers, unit } from './setup-files.ts';
import { idsOf } from './system-users.ts';

export interface SetupOptions {
  host?: string;
  address: string[];
  postmaster?: string;
  timeZone?: string;
  resolver: string[];
  config: string;
  data: string;
  user: string;
  backups?: string;
  exports?: string;
  unit: string;
}

const UNIT = 'tenedor.service';

/** Sets a host up as far as it is not yet, and says what is left to do. Run again, it changes nothing that is there, and shows what has turned good. */
export async function setup(options: SetupOptions): Promise<void> {
  const file = resolve(options.config);
  const isRoot = process.getuid?.() === 0;
  if (!existsSync(file)) {
    const answers = await answersFor(options);
    const text = configuration(answers);
    const faults = configFaults(text, file);
    if (faults.length > 0) throw new CommandError(EXIT.usage, faults.join(' '), 'Correct it, and run the command again.');
    if (isRoot) makeUser(answers.user, answers.data);
    write(file, text, 0o640);
    done(`The configuration ${file}`);
    own(file, answers.user, isRoot, true);
  }
  const config = parseConfig(readFileSync(file, 'utf8'), file, dirname(file));
  makeData(config, isRoot);
  const place = join(resolve(options.unit), UNIT);
  if (!existsSync(place)) {
    const user = config.user ?? options.user;
    const exports = options.exports === undefined ? [] : [resolve(options.exports)];
    const needed = [...new Set([config.data, dirname(config.secrets.key_file)])];
    const usual = [...(config.backup.target ? [config.backup.target] : []), ...exports].filter((one) => !needed.includes(one));
    for (const one of exports) makeOwnFolder(one, user, isRoot);
    write(place, unit({ program: join(PROJECT, 'tenedor'), config: file, user, needed, usual }), 0o644);
    done(`The unit ${place}`);
  }
  await sayWhatIsLeft(config, file, place);
}

const done = (what: string): void => say(`  ${styled('green', '+')} ${what} created.`);

/** What was not given is asked for, at a terminal. */
async function answersFor(options: SetupOptions): Promise<HostAnswers> {
  const isTerminal = process.stdin.isTTY === true;
  const terminal = isTerminal ? createInterface({ input: process.stdin, output: process.stderr }) : null;
  const ask = async (given: string | undefined, question: string, usual: string, option: string): Promise<string> => {
    if (given !== undefined) return given;
    if (!terminal) {
      if (usual !== '') return usual;
      throw new CommandError(EXIT.usage, `Missing: ${question.toLowerCase()}.`, `Say it: ${option}`);
    }
    return (await terminal.question(`${question}${usual === '' ? '' : ` [${usual}]`}: `)).trim() || usual;
  };
  try {
    const host = await ask(options.host, 'The host’s full name, such as mail.provider.example', '', '--host NAME');
    const given = options.address.length > 0 ? options.address.join(' ') : undefined;
    const addresses = await ask(given, 'Its public addresses, IPv4 and IPv6', publicAddresses().join(' '), '--address ADDRESS');
    const postmaster = await ask(options.postmaster, 'Recipient of mail to postmaster and abuse', '', '--postmaster ADDRESS');
    return {
      host,
      addresses: addresses.split(/[\s,]+/).filter((one) => one !== ''),
      postmaster,
      timeZone: options.timeZone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
      resolvers: options.resolver.length > 0 ? options.resolver : systemResolvers(),
      data: resolve(options.data),
      user: options.user,
      backups: options.backups === undefined ? null : resolve(options.backups),
    };
  } finally {
    terminal?.close();
  }
}

const publicAddresses = (): string[] =>
  Object.values(networkInterfaces())
    .flatMap((all) => all ?? [])
    .filter((one) => !one.internal && !/^(10\.|192\.168\.|172\.(1[6-9]|2\d|3[01])\.|169\.254\.|fe80|f[cd])/i.test(one.address))
    .map((one) => one.address);

function systemResolvers(): string[] {
  try {
    const found = [...readFileSync('/etc/resolv.conf', 'utf8').matchAll(/^nameserver\s+(\S+)/gm)].map(([, address = '']) =>
      address.replace(/%.*$/, ''),
    );
    return found.filter(isIpAddress).slice(0, 3);
  } catch {
    return ['127.0.0.1'];
  }
}

function write(path: string, text: string, mode: number): void {
  try {
    makeFolder(dirname(path), 0o755);
    writeFileSync(path, text, { mode, flag: 'wx' });
    chmodSync(path, mode);
  } catch (error) {
    throw new CommandError(EXIT.refused, `${path} can’t be written: ${reasonOf(error)}.`, 'Run this as root, or choose another path.');
  }
}

/** A system's user has no password and no shell. */
function makeUser(user: string, home: string): void {
  if (!/^[a-z_][a-z0-9_-]{0,31}$/.test(user))
    throw new CommandError(EXIT.usage, `“${user}” is not a valid user name.`, 'Use lower-case letters, digits and hyphens.');
  if (idsOf(user)) return;
  try {
    execFileSync('useradd', ['--system', '--user-group', '--no-create-home', '--home-dir', home, '--shell', '/usr/sbin/nologin', user], {
      stdio: 'pipe',
    });
  } catch (error) {
    throw new CommandError(
      EXIT.refused,
      `The user ${user} cannot be created: ${String((error as { stderr?: Buffer }).stderr ?? reasonOf(error)).trim()}.`,
      'Create it, and run this again.',
    );
  }
  done(`The user ${user}`);
}

function own(path: string, user: string, isRoot: boolean, groupOnly = false): void {
  const ids = isRoot ? idsOf(user) : null;
  if (ids) chownSync(path, groupOnly ? 0 : ids.uid, ids.gid);
}

/** The data directory and the key file, for their owner alone. */
function makeData({ data, secrets, backup, user }: Config, isRoot: boolean): void {
  for (const folder of [data, dirname(secrets.key_file), ...(backup.target ? [backup.target] : [])])
    makeOwnFolder(folder, user ?? '', isRoot);
  if (existsSync(secrets.key_file) || isInUse(data)) return;
  KeyFile.open(secrets.key_file);
  chmodSync(secrets.key_file, 0o600);
  own(secrets.key_file, user ?? '', isRoot);
  done(`The key file ${secrets.key_file}`);
}

function makeOwnFolder(folder: string, user: string, isRoot: boolean): void {
  if (existsSync(folder)) return;
  try {
    // Whose it is must get there: only the last is for nobody else.
    makeFolder(folder, 0o700, 0o755);
  } catch (error) {
    throw new CommandError(EXIT.refused, `${folder} cannot be created: ${reasonOf(error)}.`, 'Run this as root, or choose another path.');
  }
  own(folder, user, isRoot);
  done(`The folder ${folder}`);
}

interface Point {
  what: string;
  /** Null where all is well. */
  fault: string | null;
  remedy: string;
}

async function sayWhatIsLeft(config: Config, file: string, place: string): Promise<void> {
  const isRunning = isInUse(config.data);
  const looked = (await lookedAt(config, isRunning)).filter((one) => one.fault !== null && !one.isMild);
  const points: Point[] = [
    {
      what: 'Files, ports and name servers',
      fault: looked.map((one) => `${one.what}: ${one.fault}`).join('; ') || null,
      remedy: `See all: tenedor config check --config ${file}`,
    },
    ...(await dnsPoints(config)),
    {
      what: 'The service runs',
      fault: isRunning ? null : 'not yet',
      remedy: `systemctl daemon-reload && systemctl enable --now ${place.endsWith(UNIT) ? 'tenedor' : place}; the one-time code of the first sign-in is in its log: journalctl -u tenedor`,
    },
    {
      what: 'A copy of the key file is kept elsewhere',
      fault: 'cannot be checked from here',
      remedy: `Copy ${config.secrets.key_file} to a safe place: backups do not include it.`,
    },
  ];
  say('');
  for (const { what, fault, remedy } of points)
    say(fault === null ? `  ${styled('green', '✓')} ${what}` : `  ${styled('yellow', '○')} ${bold(what)}: ${fault}\n      ${dim(remedy)}`);
  const left = points.filter((one) => one.fault !== null).length - 1;
  say('');
  say(
    left === 0
      ? 'Set-up is complete. Next: tenedor domain add.'
      : `${left === 1 ? 'One thing is' : `${left} things are`} left to do. Run this again to see what is still missing.`,
  );
  if (left > 0) process.exitCode = EXIT.notGood;
}

/** Each address has the name, and the name each address. */
async function dnsPoints({ host, dns }: Config): Promise<Point[]> {
  const resolver = new Resolver({ servers: dns.resolvers, timeoutMs: dns.timeout_ms, tries: 1, now: Date.now });
  const asked = async (name: string, type: 'A' | 'AAAA' | 'PTR'): Promise<string[] | null> => {
    const answer = await lookUp(resolver.lookup, name, type);
    return answer.kind === 'found' ? answer.values : answer.kind === 'failed' ? null : [];
  };
  return (
    await Promise.all(
      host.addresses.map(async (address): Promise<Point[]> => {
        const type = address.includes(':') ? 'AAAA' : 'A';
        const [forward, reverse] = await Promise.all([asked(host.name, type), asked(reverseName(address), 'PTR')]);
        const seen = (values: string[] | null): string =>
          values === null ? 'no name server answers' : values.length === 0 ? 'nothing there' : `found ${values.join(', ')}`;
        return [
          {
            what: `${host.name} resolves to ${address}`,
            fault: forward?.some((one) => sameAddress(one, address)) ? null : seen(forward),
            remedy: `In the zone: ${host.name}. ${type} ${address}`,
          },
          {
            what: `${address} resolves back to ${host.name}`,
            fault: reverse?.some((one) => one.replace(/\.$/, '').toLowerCase() === host.name) ? null : seen(reverse),
            remedy: 'Ask the provider of the address for this reverse record. It can take days.',
          },
        ];
      }),
    )
  ).flat();
}
