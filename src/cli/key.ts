import { type Command, Option } from 'commander';
import type { Key } from '../api/dns-schemas.ts';
import { KEY_TYPES, ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { recordLines } from './findings.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { readNamedFile } from './named-file.ts';
import { bold, dim, type Json, show, styled, table, time } from './output.ts';

const STATE_STYLE = { prepared: 'cyan', active: 'green', retiring: 'yellow', retired: 'dim' } as const;

const keyText = (key: Key): string =>
  [
    `${bold(key.selector)}   ${key.type}   ${styled(STATE_STYLE[key.state], key.state)}`,
    ...(key.state === 'retired' ? [] : ['', ...recordLines(key.record)]),
    ...(key.next === '' ? [] : ['', key.next]),
  ].join('\n');

export function keyCommands(program: Command, client: ApiClient, json: Json): void {
  const key = program.command('key').description('a domain’s DKIM keys');
  const path = (domain: string, rest = ''): string => `/domains/${part(domain)}/keys${rest}`;
  key
    .command('list <domain>')
    .description('list keys, and the next step for each')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.keys))
    .addOption(reverseOption())
    .action(async (domain: string, options: ListOptions) =>
      showList<Key>(json, client, path(domain), options, (all) =>
        [
          table(
            ['selector', 'type', 'state', 'since', 'made'],
            all.map((one) => [
              one.selector,
              one.type,
              styled(STATE_STYLE[one.state], one.state),
              time(one.changedAt).slice(0, 10),
              time(one.createdAt).slice(0, 10),
            ]),
          ),
          ...all.filter((one) => one.next !== '').map((one) => `${dim(one.selector)}  ${one.next}`),
        ].join('\n'),
      ),
    );
  key
    .command('prepare <domain>')
    .description('create or import a key that does not sign yet')
    .addOption(new Option('--type <type>', 'rsa (2048 bits) or ed25519 beside it').choices(KEY_TYPES).default('rsa'))
    .option('--selector <selector>', 'selector (default: one with today’s date)')
    .option('--import <file>', 'a private key in PEM, with its --selector')
    .action(async (domain: string, options: { type: string; selector?: string; import?: string }) =>
      show(
        json,
        await client.post<Key>(path(domain), {
          type: options.type,
          selector: options.selector ?? null,
          pem: options.import === undefined ? null : readNamedFile(options.import),
        }),
        keyText,
      ),
    );
  key
    .command('activate <domain> <selector>')
    .description('sign with a prepared key, once its DNS record is correct')
    .option('--force', 'skip the DNS check; the journal records this')
    .action(async (domain: string, selector: string, options: { force?: true }) =>
      show(json, await client.post<Key>(path(domain, `/${part(selector)}/activate`), { force: options.force === true }), keyText),
    );
  key
    .command('retire <domain> <selector>')
    .description('stop signing with a key; it stays published while messages with its signature may be in transit')
    .option('--force', 'immediately, even if messages with its signature may be in transit')
    .action(async (domain: string, selector: string, options: { force?: true }) =>
      show(json, await client.post<Key>(path(domain, `/${part(selector)}/retire`), { force: options.force === true }), keyText),
    );
  key
    .command('remove <domain> <selector>')
    .description('delete a key that is prepared or retired')
    .option('--yes', 'do not ask')
    .action(async (domain: string, selector: string, options: { yes?: true }) => {
      await confirm(`The key ${selector} of ${domain} will be deleted for good.`, options.yes);
      await client.delete(path(domain, `/${part(selector)}`));
      show(json, {}, () => `The key ${selector} is removed.`);
    });
}
