import { type Command, Option } from 'commander';
import type { Outlet, OutletTest } from '../api/mail-schemas.ts';
import { ORDERS, TLS_MODES } from '../core/vocabulary.ts';
import { periodText } from '../texts/en/limits.ts';
import { askSecret, confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { limitTable, roomText } from './limit-values.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { readNamedFile } from './named-file.ts';
import { wholeNumber } from './numbers.ts';
import { bold, dim, facts, type Json, meter, safe, show, styled, table } from './output.ts';

interface OutletOptions {
  name?: string;
  host?: string;
  port?: number;
  tls?: string;
  user?: string;
  passwordFile?: string;
  askPassword?: true;
  customer?: string[];
  domain?: string[];
  to?: string[];
  position?: number;
  whenSpent?: string;
  sourceIpv4?: string;
  sourceIpv6?: string;
  spfInclude?: string;
}

const whom = ({ senders }: Outlet): string =>
  senders.isAny
    ? 'anybody'
    : [...senders.customers.map((one) => `“${one}”`), ...senders.domains].join(', ') || 'nobody: its senders are gone';
const where = ({ kind, host, port }: Outlet): string => (kind === 'direct' ? 'by MX' : `${host} port ${port}`);
const spent = (one: Outlet): string => {
  const tight = one.limits.find((limit) => limit.amount !== null);
  return tight ? `${meter(tight.used, tight.amount)} a ${periodText(tight.period)} ${roomText(tight)}`.trim() : 'no limit';
};

const outletText = (one: Outlet): string =>
  [
    facts([
      ['outlet', `${bold(safe(one.name))}, ${one.isOn ? styled('green', 'on') : styled('red', 'off')}`],
      ['way', where(one)],
      ['TLS', one.tls],
      ['signs in', one.user === null ? 'no' : `as ${safe(one.user)}${one.hasPassword ? '' : styled('red', ', without a password')}`],
      ['mail of', safe(whom(one))],
      ['mail for', one.destinations.join(', ') || 'anybody'],
      ['from address', [one.sourceIpv4, one.sourceIpv6].filter(Boolean).join(', ') || 'any of this machine'],
      ['when spent', one.whenSpent === 'next' ? 'the next outlet takes it' : 'mail waits'],
      ['position', String(one.position)],
      ...(one.spfInclude ? [['SPF include', one.spfInclude] as [string, string]] : []),
    ]),
    '',
    limitTable(one.limits),
  ].join('\n');

const testText = ({ works, steps }: OutletTest): string =>
  [
    ...steps.map((one) => `${one.good ? styled('green', '✓') : styled('red', '✕')} ${one.step.padEnd(9)} ${safe(one.text)}`),
    '',
    works ? 'The outlet works; nothing was sent.' : 'The outlet does not work.',
  ].join('\n');

export function outletCommands(program: Command, client: ApiClient, json: Json): void {
  const outlet = program.command('outlet').description('routes for outgoing mail: MX or smart hosts');
  outlet
    .command('list')
    .description('list outlets in the order they are tried')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.outlets))
    .addOption(reverseOption())
    .action(async (options: ListOptions) =>
      showList<Outlet>(json, client, '/outlets', options, (all) =>
        table(
          ['outlet', '', 'way', 'mail of', 'mail for', 'used', 'when spent'],
          all.map((one) => [
            safe(one.name),
            one.isOn ? 'on' : styled('red', 'off'),
            where(one),
            safe(whom(one)),
            one.destinations.join(', ') || 'anybody',
            spent(one),
            one.whenSpent,
          ]),
        ),
      ),
    );
  outlet
    .command('show <name>')
    .description('show an outlet, with its limits')
    .action(async (name: string) => show(json, await client.get<Outlet>(`/outlets/${part(name)}`), outletText));
  const valued = (command: Command): Command =>
    command
      .option('--host <name>', 'the smart host’s name')
      .option('--port <number>', 'its port (default 587)', wholeNumber)
      .addOption(new Option('--tls <mode>', 'whether TLS is used').choices(TLS_MODES))
      .option('--user <name>', 'sign in as')
      .option('--password-file <file>', 'a file with the password')
      .option('--ask-password', 'ask for the password, or read it from standard input')
      .option('--customer <names...>', 'only mail from these customers')
      .option('--domain <domains...>', 'only mail from these domains')
      .option('--to <patterns...>', 'only mail for these domains, like *.northpost.example')
      .option('--position <number>', 'lower numbers are tried first', wholeNumber)
      .addOption(new Option('--when-spent <what>', 'when its limit is used up: take the next outlet, or wait').choices(['next', 'wait']))
      .option('--source-ipv4 <address>', 'send from this address')
      .option('--source-ipv6 <address>', 'send from this address')
      .option('--spf-include <name>', 'name that its senders’ SPF records must include');
  const body = async (options: OutletOptions): Promise<object> => {
    const { passwordFile, askPassword, customer, domain, to, ...rest } = options;
    const password = passwordFile ? readNamedFile(passwordFile).trim() : askPassword ? await askSecret('Password: ') : undefined;
    const any = (list: string[] | undefined): string[] | undefined => (list?.[0] === 'any' ? [] : list);
    return {
      ...rest,
      ...(password === undefined ? {} : { password }),
      ...(customer?.[0] === 'any' || domain?.[0] === 'any' ? { anySender: true } : {}),
      ...(customer && customer[0] !== 'any' ? { customers: customer } : {}),
      ...(domain && domain[0] !== 'any' ? { domains: domain } : {}),
      ...(to ? { destinations: any(to) } : {}),
    };
  };
  valued(outlet.command('add <name>').description('add a smart host, or with --direct another direct outlet'))
    .option('--direct', 'deliver by MX')
    .action(async (name: string, { direct, ...options }: OutletOptions & { direct?: true }) =>
      show(
        json,
        await client.post<Outlet>('/outlets', {
          ...(await body(options)),
          name,
          kind: direct ? 'direct' : 'smart-host',
          ...(direct && !options.tls ? { tls: 'offered' } : {}),
        }),
        (one) => `${outletText(one)}\n\n${dim(`Try it: tenedor outlet test "${one.name}"${one.kind === 'direct' ? ' --to DOMAIN' : ''}`)}`,
      ),
    );
  valued(
    outlet
      .command('set <name>')
      .description('change an outlet, effective from the next attempt (“any” clears a list)')
      .option('--name <new>', 'a new name'),
  ).action(async (name: string, options: OutletOptions) => {
    if (Object.keys(options).length === 0) throw new CommandError(EXIT.usage, 'No changes were given.', 'See: tenedor outlet set --help');
    show(json, await client.patch<Outlet>(`/outlets/${part(name)}`, await body(options)), outletText);
  });
  for (const [verb, isOn] of [
    ['on', true],
    ['off', false],
  ] as const)
    outlet
      .command(`${verb} <name>`)
      .description(isOn ? 'enable an outlet' : 'disable an outlet; its mail takes another outlet or waits')
      .action(async (name: string) =>
        show(json, await client.patch<Outlet>(`/outlets/${part(name)}`, { isOn }), (one) => `${safe(one.name)} is ${verb}.`),
      );
  outlet
    .command('test <name>')
    .description('test an outlet step by step without a message; exit code 1 if a step fails')
    .option('--to <domain>', 'for a direct outlet: the domain whose server to test')
    .action(async (name: string, options: { to?: string }) => {
      const result = await client.post<OutletTest>(`/outlets/${part(name)}/test`, { to: options.to ?? null });
      show(json, result, testText);
      if (!result.works) process.exitCode = EXIT.notGood;
    });
  outlet
    .command('remove <name>')
    .description('remove an outlet')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await confirm(`Mail will no longer leave through “${name}”.`, options.yes);
      await client.delete(`/outlets/${part(name)}`);
      show(json, {}, () => `The outlet “${name}” is removed.`);
    });
}
