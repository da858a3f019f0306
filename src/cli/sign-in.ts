import { hostname, userInfo } from 'node:os';
import type { Command } from 'commander';
import type { Session } from '../api/access-schemas.ts';
import { askSecret, confirm } from './ask.ts';
import { part, request } from './client.ts';
import { exchange, isUnvouched, shownFingerprint } from './connection.ts';
import { CommandError, EXIT } from './errors.ts';
import { keepSignIn, nameOf, readSignIns, removeSignIn, requireSignIn, signInFile, useSignIn } from './kept-sign-ins.ts';
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
    const says = `The certificate of ${url} is not signed by a trusted authority. Its SHA-256 fingerprint is\n  ${fingerprint}`;
    if (!process.stdin.isTTY)
      throw new CommandError(
        EXIT.usage,
        says,
        'Compare it with the one in the service’s start-up log. If they match, add: --fingerprint FINGERPRINT',
      );
    process.stderr.write(`${says}\n`);
    await confirm('Does it match the one in the service’s start-up log?', undefined);
    return fingerprint;
  }
}

/** Each account of a machine has a token of its own. */
const tokenName = (): string => `command line of ${userInfo().username} on ${hostname()}`.replaceAll('/', '-').slice(0, 80);

export function signInCommands(program: Command, json: Json): void {
  program
    .command('sign-in')
    .description('sign in, and store a token for this user')
    .option('--url <url>', 'URL of the service', 'http://127.0.0.1:8025')
    .option('--name <account>', 'account name', 'operator')
    .option('--code <code>', 'one-time code from the first start; lets you choose a password')
    .option('--fingerprint <sha256>', 'trust the self-signed certificate with this fingerprint')
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
        (one) => `Signed in to ${one.url} as ${one.account}. The token is stored in ${one.file}.`,
      );
    });
  const signedIn = program.command('signed-in').description('services and accounts you are signed in to');
  signedIn
    .command('list')
    .description('list sign-ins; the current one is marked')
    .action(() => {
      const { current, signIns } = readSignIns();
      const all = signIns.map((one) => ({ name: nameOf(one), url: one.url, account: one.account, current: nameOf(one) === current }));
      show(json, all, (rows) =>
        rows.length === 0
          ? 'You are not signed in. Sign in: tenedor sign-in'
          : `${table(
              ['', 'name', 'service', 'account'],
              rows.map((one) => [one.current ? '→' : '', one.name, one.url, one.account]),
            )}\n${dim('For one command, use --at NAME. For all commands: tenedor signed-in use NAME')}`,
      );
    });
  signedIn
    .command('use <name>')
    .description('make another sign-in the current one')
    .action((name: string) => {
      useSignIn(name);
      show(json, { name }, () => `Commands now use ${name}.`);
    });
  signedIn
    .command('remove <name>')
    .description('remove a sign-in and revoke its token')
    .action(async (name: string) => {
      const { url, token, fingerprint } = requireSignIn(name);
      // A service that is gone can’t revoke anything; the token is forgotten here all the same.
      const revoked = await request({ url, fingerprint }, 'DELETE', `/tokens/${part(tokenName())}`, {
        authorization: `Bearer ${token}`,
      }).then(
        () => true,
        () => false,
      );
      removeSignIn(name);
      show(json, { name, revoked }, () =>
        revoked
          ? `${name} is removed, and its token revoked.`
          : `${name} is removed. Its token could not be revoked: if it still exists, remove it with tenedor token remove.`,
      );
    });
}
