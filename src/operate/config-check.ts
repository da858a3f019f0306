import { createPrivateKey } from 'node:crypto';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { createServer } from 'node:net';
import { dirname, join, resolve } from 'node:path';
import { CommandError, EXIT } from '../cli/errors.ts';
import { progress, say, styled } from '../cli/output.ts';
import { Roots, readChain, readPrivateKey } from '../core/certificates/chain.ts';
import { lookUp } from '../core/records/answers.ts';
import { Resolver } from '../dns/resolver.ts';
import { type Config, configFaults, parseConfig } from '../service/app/config.ts';
import { isInUse, reasonOf } from '../store/open-data.ts';

export interface Looked {
  what: string;
  /** What is wrong, or could be better; null where all is well. */
  fault: string | null;
  /** Whether the service starts all the same. */
  isMild: boolean;
  /** Beside what is well. */
  note?: string;
}
const well = (what: string, note?: string): Looked => ({ what, fault: null, isMild: false, ...(note === undefined ? {} : { note }) });
const bad = (what: string, fault: string): Looked => ({ what, fault, isMild: false });
const mild = (what: string, fault: string): Looked => ({ what, fault, isMild: true });

/** Looks at a configuration as a start would, and finds everything at once: its text, files, folders, ports and name servers. Changes nothing. */
export async function checkConfig(file: string): Promise<void> {
  let text: string;
  try {
    text = readFileSync(file, 'utf8');
  } catch (error) {
    throw new CommandError(
      EXIT.refused,
      `The configuration file ${file} can’t be read: ${reasonOf(error)}.`,
      'Check its path and permissions.',
    );
  }
  const faults = configFaults(text, file);
  if (faults.length > 0) {
    for (const fault of faults) say(`  ${styled('red', '✕')} ${fault}`);
    say(`${faults.length === 1 ? 'One thing is' : `${faults.length} things are`} wrong; tenedor.example.toml shows every key.`);
    process.exitCode = EXIT.notGood;
    return;
  }
  const config = parseConfig(text, file, dirname(resolve(file)));
  progress('Trying files, ports and name servers …');
  const isRunning = isInUse(config.data);
  const looked = [well(`the text of ${file}`), ...(await lookedAt(config, isRunning))];
  progress('');
  for (const { what, fault, isMild, note } of looked)
    say(
      fault === null
        ? `  ${styled('green', '✓')} ${what}${note === undefined ? '' : `: ${note}`}`
        : `  ${isMild ? styled('yellow', '△') : styled('red', '✕')} ${what}: ${fault}`,
    );
  const wrong = looked.filter((one) => one.fault !== null && !one.isMild).length;
  say(
    wrong === 0
      ? 'The service can start with it.'
      : `${wrong === 1 ? 'One thing keeps' : `${wrong} things keep`} a service from starting with it, or from its work.`,
  );
  if (isRunning) say('What is different from the service that runs: tenedor config changes');
  if (wrong > 0) process.exitCode = EXIT.notGood;
}

/** Files, folders, ports and name servers of a configuration, each tried. */
export const lookedAt = async (config: Config, isRunning: boolean): Promise<Looked[]> => [
  folder('data directory', config.data, isRunning ? 'a service runs on it' : undefined),
  ...files(config),
  ...(await Promise.all(config.listener.map((one) => port(one, isRunning)))),
  ...(await Promise.all(config.dns.resolvers.map((one) => nameServer(one, config)))),
];

/** Whether somebody may write there, or make it. */
function folder(what: string, path: string, note?: string): Looked {
  try {
    let place = path;
    while (!existsSync(place)) place = dirname(place);
    // Only to do it shows it: to root the system allows all.
    rmSync(mkdtempSync(join(place, '.tried-')), { recursive: true });
    return well(`${what} ${path}`, note ?? (place === path ? undefined : 'it is made at the first start'));
  } catch (error) {
    return bad(`${what} ${path}`, reasonOf(error));
  }
}

function files({ tls, certificate, mail, authority, secrets, backup }: Config): Looked[] {
  const found: Looked[] = [];
  const readable = (what: string, path: string | undefined): void => {
    if (path === undefined) return;
    try {
      readFileSync(path);
      found.push(well(`${what} ${path}`));
    } catch (error) {
      found.push(bad(`${what} ${path}`, reasonOf(error)));
    }
  };
  for (const pair of [...(tls ? [tls] : []), ...certificate])
    try {
      const key = readPrivateKey(readFileSync(pair.key, 'utf8'), createPrivateKey);
      const { notAfter, names } = readChain(readFileSync(pair.certificate, 'utf8'), new Roots([]), key).facts;
      found.push(
        notAfter < Date.now()
          ? mild(`certificate ${pair.certificate}`, `it expired on ${new Date(notAfter).toISOString().slice(0, 10)}`)
          : well(
              `certificate ${pair.certificate}`,
              `${names.slice(0, 3).join(', ')}, until ${new Date(notAfter).toISOString().slice(0, 10)}`,
            ),
      );
    } catch (error) {
      found.push(bad(`certificate ${pair.certificate}`, `${reasonOf(error).replace(/\.$/, '')}; its key is ${pair.key}`));
    }
  readable('trusted roots', mail.trusted_roots);
  readable('roots of the authority', authority?.trusted_roots);
  readable('binding key', authority?.binding_key_file);
  readable('passphrase of backups', backup.passphrase_file);
  readable('secret key of the bucket', backup.bucket?.secret_key_file);
  if (existsSync(secrets.key_file)) readable('key file', secrets.key_file);
  else found.push(folder('folder of the key file', dirname(secrets.key_file)));
  if (backup.target !== undefined) found.push(folder('place of backups', backup.target));
  return found;
}

/** A port that is tried by listening; where a service runs it is taken by that one. */
function port({ service, address, port: number }: Config['listener'][number], isRunning: boolean): Promise<Looked> {
  const what = `${service} ${address.includes(':') ? `[${address}]` : address}:${number}`;
  return new Promise((done) => {
    const probe = createServer();
    probe.once('error', (error: NodeJS.ErrnoException) => {
      if (error.code === 'EADDRINUSE')
        done(isRunning ? well(what, 'in use, by the service that runs') : bad(what, 'another program uses that port'));
      else if (error.code === 'EADDRNOTAVAIL') done(bad(what, 'this machine does not have that address'));
      else if (error.code === 'EACCES') done(bad(what, 'this user may not open ports below 1024'));
      else done(bad(what, reasonOf(error)));
    });
    probe.listen(number, address, () => probe.close(() => done(well(what))));
  });
}

async function nameServer(server: Config['dns']['resolvers'][number], { dns, host }: Config): Promise<Looked> {
  const what = `name server ${server.address}:${server.port}`;
  const resolver = new Resolver({ servers: [server], timeoutMs: dns.timeout_ms, tries: 2, now: () => performance.now() });
  const answer = await lookUp(resolver.lookup, host.name, host.addresses.some((one) => !one.includes(':')) ? 'A' : 'AAAA');
  if (answer.kind === 'failed') return bad(what, `it does not answer: ${answer.reason}`);
  if (answer.kind === 'none') return mild(what, `it answers, and ${host.name} has no address in DNS: tenedor host show has the records`);
  const missing = host.addresses.filter(
    (one) => one.includes(':') === (answer.values[0]?.includes(':') ?? false) && !answer.values.includes(one),
  );
  return missing.length === 0
    ? well(what, 'it answers')
    : mild(what, `it answers, and ${host.name} does not resolve to ${missing.join(' and ')}`);
}
