import { hostname } from 'node:os';
import type { Command } from 'commander';
import type { Lockout, Session, Token, WebSession } from '../api/schemas.ts';
import { askSecret, confirm } from './ask.ts';
import { type ApiClient, accessFile, CommandError, EXIT, keepAccess, part, request } from './client.ts';
import { bold, count, dim, facts, type Json, safe, shortened, show, table, time } from './output.ts';

export function accessCommands(program: Command, client: ApiClient, json: Json): void {
  program
    .command('sign-in')
    .description('sign this account of the machine in; keeps a token in a file of its own')
    .option('--url <url>', 'where the service listens', 'http://127.0.0.1:8025')
    .option('--name <account>', 'whose account', 'operator')
    .option('--code <code>', 'the one-time code of the first start; a password is chosen with it')
    .action(async (options: { url: string; name: string; code?: string }) => {
      if (!URL.canParse(options.url))
        throw new CommandError(EXIT.usage, `“${options.url}” is no URL.`, 'Write it like http://127.0.0.1:8025.');
      const password = await askSecret(options.code ? 'Choose a password (12 characters or more): ' : 'Password: ');
      const signedIn = await request(options.url, 'POST', '/session', {}, { name: options.name, password, code: options.code ?? null });
      const cookie = signedIn.headers
        .getSetCookie()
        .map((one) => one.split(';')[0])
        .join('; ');
      const headers = { cookie, 'x-tenedor-guard': (signedIn.body as Session).guard };
      const name = `command line on ${hostname()}`.slice(0, 80);
      // A token of the same name is from an earlier sign-in here.
      await request(options.url, 'DELETE', `/tokens/${part(name)}`, headers).catch(() => {});
      const made = await request(options.url, 'POST', '/tokens', headers, { name });
      await request(options.url, 'DELETE', '/session', headers);
      keepAccess({ url: options.url, token: (made.body as { token: string }).token });
      show(json, { url: options.url, file: accessFile() }, (one) => `Signed in to ${one.url}. The token is kept in ${one.file}.`);
    });
  const lockout = program.command('lockout').description('who may not sign in for a while, after wrong passwords');
  lockout
    .command('list')
    .description('list accounts and addresses that must wait')
    .action(async () =>
      show(json, await client.get<Lockout[]>('/lockouts'), (all) =>
        all.length === 0
          ? 'Nobody is locked out.'
          : `${table(
              ['who', 'signing in to', 'wrong', 'last (UTC)', 'may try again (UTC)'],
              all.map((one) => [
                safe(one.name) +
                  (one.of === 'account'
                    ? dim(one.at === 'mailboxes' && one.domain === null ? ' (no mailbox here)' : ' (from addresses that failed)')
                    : ''),
                one.at === 'console' ? 'the console' : 'mailboxes',
                String(one.failures),
                time(one.last),
                time(one.until),
              ]),
            )}\n${dim('One may try again at once with: tenedor lockout lift WHO')}`,
      ),
    );
  lockout
    .command('lift <who>')
    .description('let a mailbox, an account or an address try again at once')
    .action(async (name: string) => {
      await client.post('/lockouts/lift', { name });
      show(json, {}, () => `${bold(safe(name))} may try to sign in again.`);
    });
  const session = program.command('session').description('where your account is signed in to the console');
  session
    .command('list')
    .description('list console sessions')
    .action(async () =>
      show(json, await client.get<WebSession[]>('/sessions'), (all) =>
        all.length === 0
          ? 'Your account is not signed in anywhere.'
          : `${table(
              ['id', 'from', 'with', 'signed in (UTC)', 'last used (UTC)'],
              all.map((one) => [String(one.id), one.address, shortened(safe(one.program), 40), time(one.createdAt), time(one.usedAt)]),
            )}\n${dim('Sign out of one with: tenedor session end ID; of all with: tenedor session end --all')}`,
      ),
    );
  session
    .command('end [id]')
    .description('sign out of one console session, or of all')
    .option('--all', 'every session of your account')
    .action(async (id: string | undefined, options: { all?: true }) => {
      if ((id === undefined) === (options.all === undefined))
        throw new CommandError(EXIT.usage, 'Nothing says which session is meant.', 'Name one of: tenedor session list; or say --all.');
      const number = id === undefined ? null : Number(id);
      if (number !== null && !Number.isSafeInteger(number))
        throw new CommandError(EXIT.usage, `“${id}” is no number of a session.`, 'See the numbers with: tenedor session list');
      const { ended } = await client.post<{ ended: number }>('/sessions/end', { id: number });
      show(json, { ended }, () => `${count(ended, 'session')} ended.`);
    });
  const token = program.command('token').description('API tokens of your account');
  token
    .command('add <name>')
    .description('make a token; it is shown this once')
    .action(async (name: string) =>
      show(json, await client.post<{ name: string; token: string }>('/tokens', { name }), (one) =>
        facts([
          ['token', one.name],
          ['text', `${bold(one.token)}   ${dim('shown this once')}`],
        ]),
      ),
    );
  token
    .command('list')
    .description('list tokens')
    .action(async () =>
      show(json, await client.get<Token[]>('/tokens'), (all) =>
        table(
          ['token', 'made', 'last used'],
          all.map((one) => [one.name, time(one.createdAt), one.usedAt === null ? 'never' : time(one.usedAt)]),
        ),
      ),
    );
  token
    .command('remove <name>')
    .description('revoke a token')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await confirm(`Revoke the token “${name}”?`, options.yes);
      await client.delete(`/tokens/${part(name)}`);
      show(json, {}, () => `Token “${name}” is revoked.`);
    });
}
