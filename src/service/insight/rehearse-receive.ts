import { parseAddress } from '../../core/address/mailbox-address.ts';
import { domainSide } from '../../core/address/sides.ts';
import { lookUp } from '../../core/records/answers.ts';
import { reverseName, sameAddress } from '../../core/records/reverse-name.ts';
import { isGoodWay, type Rehearsal, type RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { recipientExchanges } from '../../core/rehearsal/scripts.ts';
import { keepRehearsal } from '../../store/rehearsals.ts';
import { badInput } from '../base/problem.ts';
import { requireDomain } from '../directory/domains.ts';
import type { InsightDeps } from './deps.ts';
import { meetServer, tryRelay } from './meet-server.ts';
import { addressesOf, StepFailed, Way } from './rehearsal-steps.ts';

const SMTP_PORT = 25;
const MOST_HOSTS = 5;

/** Brings mail for an address as another server does, step by step and up to the message: by the MX records at the zone’s own servers, to each host. */
export async function rehearseReceive(context: InsightDeps, text: string): Promise<Rehearsal> {
  const { db, clock } = context;
  const parsed = parseAddress(text.trim());
  if (parsed.kind === 'invalid')
    throw badInput('address', `“${text.slice(0, 80)}” is not an address: ${parsed.reason}.`, 'Write it like ana@shop.example.');
  const address = text.trim().toLowerCase();
  const domain = requireDomain(context, domainSide(address)).name;
  context.dns.forget();
  const first = new Way('MX records');
  const hosts: { preference: number; exchange: string }[] = [];
  await first.step('mx', `asks the zone’s own servers where mail for ${domain} goes`, null, async () => {
    hosts.push(...(await mailHosts(context, domain)));
    return { seen: hosts.map((one) => `${one.preference} ${one.exchange}`).join(', ') };
  });
  // One after the other, so that what is one host by two names is not asked twice at once.
  const ways: RehearsalWay[] = [first];
  for (const { exchange } of hosts.slice(0, MOST_HOSTS)) ways.push(await rehearseHost(context, exchange, address));
  const made = { kind: 'receive' as const, subject: address, at: clock.now(), isGood: ways.every(isGoodWay), ways };
  return { id: await db.commit(() => keepRehearsal(db, made)), ...made };
}

async function mailHosts(context: InsightDeps, domain: string): Promise<{ preference: number; exchange: string }[]> {
  const answer = await lookUp(context.dns.openViews().source, domain, 'MX');
  if (answer.kind === 'failed')
    throw new StepFailed(`The zone’s servers give no answer: ${answer.reason}.`, `Look at its records: tenedor check ${domain}`);
  const values = answer.kind === 'found' ? answer.values.filter((one) => one.exchange !== '') : [];
  if (values.length === 0)
    throw new StepFailed(`${domain} has no MX record that takes mail.`, `Publish those of its sheet: tenedor records ${domain}`);
  return [...values].sort((one, other) => one.preference - other.preference);
}

async function rehearseHost(context: InsightDeps, server: string, address: string): Promise<RehearsalWay> {
  const { host, passes, clock } = context;
  const way = new Way(server);
  const greeting = passes.greeting(clock.steady());
  const domain = domainSide(address);
  let addresses: string[] = [];
  await way.step('name', `finds ${server}`, null, async () => {
    addresses = await addressesOf(context, server);
    return { seen: addresses.join(', ') };
  });
  const isOurs = addresses.some((one) => host.addresses.some((own) => sameAddress(own, one)));
  const { talk, isGreeted, isSecure } = await meetServer(context, way, {
    name: server,
    addresses,
    port: SMTP_PORT,
    greeting,
    action: 'Look at the log: too many connections, a block list, or a server that is stopping refuse here.',
    needsTls: true,
    // Others look at it when we send: mail comes all the same.
    between: async () => {
      if (isOurs)
        await way.step('reverse', 'looks whether each address leads back to a name that leads to it', null, async () =>
          reverseOf(context, addresses),
        );
    },
  });
  await way.step(
    'recipient',
    `may bring mail for ${address}`,
    talk && (() => talk),
    async () => {
      await talk?.talk(recipientExchanges(address, isSecure ? greeting : null));
      return { seen: 'the address is taken; nothing was sent' };
    },
    `See what decides it: tenedor explain --to ${address}`,
  );
  if (talk && isGreeted && isOurs) {
    // What is refused there must not keep this from being seen.
    way.goOn();
    await tryRelay(context, way, { talk, domain, greeting });
  }
  talk?.close();
  return way;
}

async function reverseOf({ lookup }: InsightDeps, addresses: readonly string[]): Promise<{ seen: string }> {
  const seen: string[] = [];
  for (const address of addresses) {
    const answer = await lookUp(lookup, reverseName(address), 'PTR');
    const [name] = answer.kind === 'found' ? answer.values : [];
    if (name === undefined)
      throw new StepFailed(
        `${address} leads to no name.`,
        'Ask for its reverse record: tenedor host show has the text for whoever holds the address.',
      );
    const back = await lookUp(lookup, name, address.includes(':') ? 'AAAA' : 'A');
    if (back.kind !== 'found' || !back.values.some((one) => sameAddress(one, address)))
      throw new StepFailed(`${address} leads to ${name}, which does not lead back.`, 'Have both name each other: tenedor host show');
    seen.push(name);
  }
  return { seen: [...new Set(seen)].join(', ') };
}
