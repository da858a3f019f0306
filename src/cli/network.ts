import { type Command, Option } from 'commander';
import type { Zone } from '../api/dns-schemas.ts';
import type { Network } from '../api/schemas.ts';
import { ORDERS, TSIG_ALGORITHMS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { listCommand } from './lists.ts';
import { readNamedFile } from './named-file.ts';
import { wholeNumber } from './numbers.ts';
import { bold, facts, type Json, nothing, show, time } from './output.ts';

interface NetworkOptions {
  note?: string;
  submit?: boolean;
  domain?: string[];
}

const networkBody = ({ note, submit, domain }: NetworkOptions): object => ({
  ...(note === undefined ? {} : { note }),
  ...(submit === undefined ? {} : { maySubmit: submit }),
  ...(domain === undefined ? {} : domain[0] === 'any' ? { anyDomain: true } : { domains: domain }),
});

const submits = (one: Network): string =>
  one.maySubmit ? (one.anyDomain ? 'as anybody' : `as ${one.domains.join(', ') || 'nobody: its domains are gone'}`) : '–';
const networkText = (one: Network): string =>
  `${bold(one.cidr)} is trusted${one.maySubmit ? `, and may send without signing in, ${submits(one)}` : ''}.`;

/** Known networks, and zones that are updated from here. */
export function networkCommands(program: Command, client: ApiClient, json: Json): void {
  const network = program
    .command('network')
    .description('trusted networks: exempt from DMARC and lockouts; can be allowed to send without signing in');
  listCommand<Network>(
    network,
    { client, json },
    {
      command: 'list',
      about: 'list networks',
      orders: ORDERS.networks,
      path: '/networks',
      none: nothing('trusted networks', 'tenedor network add 198.51.100.0/24 --note "choir list"'),
      columns: () => ['network', 'may send', 'note', 'since'],
      row: (one) => [one.cidr, submits(one), one.note, time(one.createdAt).slice(0, 10)],
    },
  );
  network
    .command('add <cidr>')
    .description('trust a network, such as a forwarder’s, a mailing list’s or an office’s')
    .option('--note <text>', 'whose it is')
    .option('--submit', 'let its clients send without signing in')
    .option('--domain <domains...>', 'sender domains they may use (default: any)')
    .action(async (cidr: string, options: NetworkOptions) =>
      show(json, await client.post<Network>('/networks', { cidr, ...networkBody(options) }), networkText),
    );
  network
    .command('set <cidr>')
    .description('change a trusted network')
    .option('--note <text>', 'whose it is')
    .option('--submit', 'let its clients send without signing in')
    .option('--no-submit', 'require its clients to sign in')
    .option('--domain <domains...>', 'sender domains its clients may use, or any')
    .action(async (cidr: string, options: NetworkOptions) => {
      if (Object.keys(options).length === 0)
        throw new CommandError(EXIT.usage, 'No changes were given.', 'See: tenedor network set --help');
      show(json, await client.patch<Network>('/networks', { cidr, ...networkBody(options) }), networkText);
    });
  network
    .command('remove <cidr>')
    .description('remove a trusted network')
    .option('--yes', 'do not ask')
    .action(async (cidr: string, options: { yes?: true }) => {
      await confirm(`Mail from ${cidr} will be treated like any other.`, options.yes);
      await client.post('/networks/remove', { cidr });
      show(json, {}, () => `${cidr} is no longer trusted.`);
    });

  const zone = program.command('zone').description('DNS zones updated by this server');
  const zoneFacts = (one: Zone): string =>
    facts([
      ['zone', bold(one.name)],
      ['server', `${one.server} port ${one.port}`],
      ['key', `${one.keyName} (${one.algorithm})`],
    ]);
  listCommand<Zone>(
    zone,
    { client, json },
    {
      command: 'list',
      about: 'list zones',
      orders: ORDERS.zones,
      path: '/zones',
      none: nothing('zones', 'tenedor zone set shop.example --server 192.0.2.53 --key tenedor --secret-file FILE'),
      columns: () => ['zone', 'server', 'port', 'key', 'algorithm'],
      row: (one) => [one.name, one.server, String(one.port), one.keyName, one.algorithm],
    },
  );
  zone
    .command('set <zone>')
    .description('set the server and key for updates to a zone')
    .requiredOption('--server <address>', 'address of the zone’s primary name server')
    .option('--port <number>', 'its port', wholeNumber, 53)
    .requiredOption('--key <name>', 'name of the TSIG key')
    .requiredOption('--secret-file <file>', 'file with the key in base64')
    .addOption(new Option('--algorithm <name>', 'of the key').choices(TSIG_ALGORITHMS).default('hmac-sha256'))
    .action(async (name: string, options: { server: string; port: number; key: string; secretFile: string; algorithm: string }) =>
      show(
        json,
        await client.put<Zone>('/zones', {
          name,
          server: options.server,
          port: options.port,
          keyName: options.key,
          algorithm: options.algorithm,
          secret: readNamedFile(options.secretFile).trim(),
        }),
        zoneFacts,
      ),
    );
  zone
    .command('remove <zone>')
    .description('stop updating a zone; the zone itself does not change')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await confirm(`The key of the zone ${name} will be deleted.`, options.yes);
      await client.delete(`/zones/${part(name)}`);
      show(json, {}, () => `${name} is no longer updated from here.`);
    });
}
