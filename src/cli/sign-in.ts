import { hostname, userInfo } from 'node:os';
import type { Command } from 'commander';
import type { Session } from '../api/access-schemas.ts';
import { askSecret, confirm } from './ask.ts';
import { part, request } from './client.ts';
import { exchange, isUnvouched, shownFingerprint } from './connection.ts';
import { CommandError, EXIT } from './errors.ts';
import { forgetSignIn, keepSignIn, nameOf, readSignIns, requireSignIn, signInFile, useSignIn } from './kept-sign-ins.ts';
import { dim, type Json, show, table } from './output.ts';

/**
 * The fingerprint that the service is held to, where no authority vouches for its certificate: the one that was given, or the one that is shown and
 * said yes to. Undefined where the system's authorities decide.
 */
async function trusted(url: string, given: string | undefined): Promise<string | undefined> {
  if (given !== undefined) {
    const digits = given.replace(/[^0-9a-f]/gi, '').toUpperCase();
    if (!/^[0-9A-F]{64}$/.test(digits) || !url.startsWith('https:'))
      throw new CommandError(
        EXIT.usage,
        `“${given.slice(0, 120)}” is not a SHA-256 fingerprint of an https service.`,
        'It is 64 digits, like AB:CD:…',
      );
    return digits.match(/../g)?.join(':');
  }
  if (!url.startsWith('https:')) return undefined;
  try {
    await exchange({ url }, '/healthz', { method: 'HEAD', headers: {} });
    return undefined;
  } catch (error) {
    if (!isUnvouched(error)) return undefined;
    const fingerprint = await shownFingerprint(url);
    const says = `The certificate at ${url} is signed by nobody known. Its SHA-256 fingerprint is\n  ${fingerprint}`;
    if (!process.stdin.isTTY)
      throw new CommandError(
        EXIT.usage,
        says,
        'If that is the one of your service (it prints it at its start), add: --fingerprint FINGERPRINT',
      );
    process.stderr.write(`${says}\n`);
    await confirm('Is that the one of your service? It prints it at its start.', undefined);
    return fingerprint;
  }
}

/** Each account of a machine has a token of its own. */
const tokenName = (): string => `command line of ${userInfo().username} on ${hostname()}`.replaceAll('/', '-').slice(0, 80);

export function signInCommands(program: Command, json: Json): void {
  program
    .command('sign-in')
    .description('sign in, and keep a token for this user of the machine')
    .option('--url <url>', 'where the service listens', 'http://127.0.0.1:8025')
    .option('--name <account>', 'whose account', 'operator')
    .option('--code <code>', 'the one-time code that the first start printed; you choose a password with it')
    .option(
      '--fingerprint <sha256>',
      'trust the certificate with this fingerprint, where no known authority has signed it; kept for later commands',
    )
    .action(async (options: { url: string; name: string; code?: string; fingerprint?: string }) => {
      if (!URL.canParse(options.url))
        throw new CommandError(EXIT.usage, `“${options.url}” is not a URL.`, 'Write it like http://127.0.0.1:8025.');
      const place = { url: options.url, fingerprint: await trusted(options.url, options.fingerprint) };
      const password = await askSecret(options.code ? 'Choose a password (12 characters or more): ' : 'Password: ');
      const signedIn = await request(place, 'POST', '/session', {}, { name: options.name, password, code: options.code ?? null });
      const cookie = signedIn.headers
        .getSetCookie()
        .map((one) => one.split(';')[0])
        .join('; ');
      const headers = { cookie, 'x-tenedor-csrf': (signedIn.body as Session).csrfToken };
      const name = tokenName();
      // A token of the same name is from an earlier sign-in here.
      await request(place, 'DELETE', `/tokens/${part(name)}`, headers).catch(() => {});
      const made = await request(place, 'POST', '/tokens', headers, { name });
      await request(place, 'DELETE', '/session', headers);
      const signIn = { ...place, account: options.name, token: (made.body as { token: string }).token };
      keepSignIn(signIn);
      show(
        json,
        { url: options.url, account: options.name, name: nameOf(signIn), file: signInFile() },
        (one) => `Signed in to ${one.url} as ${one.account}. The token is kept in ${one.file}.`,
      );
    });
  const signedIn = program.command('signed-in').description('the services that you are signed in to, and as which account');
  signedIn
    .command('list')
    .description('list them; the marked one is in use')
    .action(() => {
      const { current, signIns } = readSignIns();
      const all = signIns.map((one) => ({ name: nameOf(one), url: one.url, account: one.account, current: nameOf(one) === current }));
      show(json, all, (rows) =>
        rows.length === 0
          ? 'You are not signed in anywhere. Sign in: tenedor sign-in'
          : `${table(
              ['', 'name', 'service', 'account'],
              rows.map((one) => [one.current ? '→' : '', one.name, one.url, one.account]),
            )}\n${dim('Use another one for a command with --at NAME, for all with: tenedor signed-in use NAME')}`,
      );
    });
  signedIn
    .command('use <name>')
    .description('use another one from now on')
    .action((name: string) => {
      useSignIn(name);
      show(json, { name }, () => `Commands talk to ${name} from now on.`);
    });
  signedIn
    .command('forget <name>')
    .description('forget one; its token is revoked')
    .action(async (name: string) => {
      const { url, token, fingerprint } = requireSignIn(name);
      // A service that is gone can’t revoke anything; the token is forgotten here all the same.
      const revoked = await request({ url, fingerprint }, 'DELETE', `/tokens/${part(tokenName())}`, {
        authorization: `Bearer ${token}`,
      }).then(
        () => true,
        () => false,
      );
      forgetSignIn(name);
      show(json, { name, revoked }, () =>
        revoked
          ? `${name} is forgotten, and its token revoked.`
          : `${name} is forgotten. Its token could not be revoked: if it is still there, remove it with tenedor token remove.`,
      );
    });
}
