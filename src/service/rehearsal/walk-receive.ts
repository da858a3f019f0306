import { domainSide } from '../../core/address/sides.ts';
import { lookUp } from '../../core/records/answers.ts';
import { reverseName, sameAddress } from '../../core/records/reverse-name.ts';
import { letterLines, NOBODY } from '../../core/rehearsal/letter.ts';
import type { RehearsalOrder } from '../../core/rehearsal/order.ts';
import type { RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { letterExchanges, recipientExchanges } from '../../core/rehearsal/scripts.ts';
import { meetServer, tryRelay } from './meet-server.ts';
import { addressesOf, StepFailed, Way } from './rehearsal-steps.ts';
import type { RehearsalWorld } from './rehearsal-world.ts';

type ReceiveOrder = Extract<RehearsalOrder, { kind: 'receive' }>;

export const SMTP_PORT = 25;
const MOST_HOSTS = 5;

/** Brings mail for an address as another server does, up to the message: by the MX records at the zone’s own servers, to each host. */
export async function walkReceive(world: RehearsalWorld, order: ReceiveOrder): Promise<RehearsalWay[]> {
  const domain = domainSide(order.address);
  const first = new Way('MX records');
  const hosts: { preference: number; exchange: string }[] = [];
  await first.step('mx', `asks the zone’s own servers where mail for ${domain} goes`, null, async () => {
    hosts.push(...(await mailHosts(world, domain)));
    return { seen: hosts.map((one) => `${one.preference} ${one.exchange}`).join(', ') };
  });
  // One after the other, so that what is one host by two names is not asked twice at once.
  const ways: RehearsalWay[] = [first];
  let { letter } = order;
  for (const { exchange } of hosts.slice(0, MOST_HOSTS)) {
    const way = await walkHost(world, exchange, { ...order, letter });
    if (way.steps.some((one) => one.key === 'message')) letter = null;
    ways.push(way);
  }
  return ways;
}

/** Tries to have mail for strangers passed on by the host, at each of its addresses. */
export async function walkRelay(world: RehearsalWorld, { relay }: Extract<RehearsalOrder, { kind: 'relay' }>): Promise<RehearsalWay[]> {
  const { name, addresses } = world.host;
  const ways: RehearsalWay[] = [];
  for (const address of addresses) {
    const way = new Way(`${name} [${address}]`);
    const { talk, isGreeted } = await meetServer(world, way, {
      name,
      addresses: [address],
      port: SMTP_PORT,
      greeting: relay.greeting,
      action: NOT_GREETED,
      needsTls: true,
    });
    if (talk && isGreeted) {
      way.goOn();
      await tryRelay(way, talk, relay);
    }
    talk?.close();
    ways.push(way);
  }
  return ways;
}

const NOT_GREETED = 'Look at the log: too many connections, a block list, or a server that is stopping refuse here.';

async function mailHosts({ source }: RehearsalWorld, domain: string): Promise<{ preference: number; exchange: string }[]> {
  const answer = await lookUp(source, domain, 'MX');
  if (answer.kind === 'failed')
    throw new StepFailed(`The zone’s servers give no answer: ${answer.reason}.`, `Look at its records: tenedor check ${domain}`);
  const values = answer.kind === 'found' ? answer.values.filter((one) => one.exchange !== '') : [];
  if (values.length === 0)
    throw new StepFailed(`${domain} has no MX record that takes mail.`, `Publish those of its sheet: tenedor records ${domain}`);
  return [...values].sort((one, other) => one.preference - other.preference);
}

async function walkHost(world: RehearsalWorld, server: string, { address, relay, letter }: ReceiveOrder): Promise<RehearsalWay> {
  const way = new Way(server);
  let addresses: string[] = [];
  await way.step('name', `finds ${server}`, null, async () => {
    addresses = await addressesOf(world, server);
    return { seen: addresses.join(', ') };
  });
  const { goesTo } = world;
  if (goesTo && addresses.length > 0 && !addresses.every((one) => goesTo.some((own) => sameAddress(own, one)))) {
    await way.step('elsewhere', 'is left to a rehearsal from the host itself', null, async () => ({
      seen: `a witness goes to the addresses of ${world.host.name} only`,
    }));
    return way;
  }
  const isOurs = addresses.some((one) => world.host.addresses.some((own) => sameAddress(own, one)));
  const { talk, isGreeted, isSecure } = await meetServer(world, way, {
    name: server,
    addresses,
    port: SMTP_PORT,
    // What is not ours is greeted like this, too: the name leads to nobody.
    greeting: relay.greeting,
    action: NOT_GREETED,
    needsTls: true,
    // Others look at it when we send: mail comes all the same.
    between: async () => {
      if (isOurs)
        await way.step('reverse', 'looks whether each address leads back to a name that leads to it', null, async () =>
          reverseOf(world, addresses),
        );
    },
  });
  await way.step(
    'recipient',
    `may bring mail for ${address}`,
    talk && (() => talk),
    async () => {
      await talk?.talk(recipientExchanges(address, isSecure ? relay.greeting : null));
      const more = letter ? '' : ', and nothing was sent: how a message itself is judged was not tried';
      return { seen: `the address is taken${more}` };
    },
    `See what decides it: tenedor explain --to ${address}`,
  );
  // One message is enough: to the first host that is this one.
  if (letter && isOurs && way.steps.at(-1)?.state === 'done')
    await way.step(
      'message',
      'brings a message',
      talk && (() => talk),
      async () => {
        await talk?.talk(letterExchanges('', address, letterLines(letter, NOBODY, address)));
        return { seen: 'it is taken' };
      },
      `See what decides it: tenedor explain --to ${address}`,
    );
  if (talk && isGreeted && isOurs) {
    // What is refused there must not keep this from being seen.
    way.goOn();
    await tryRelay(way, talk, relay);
  }
  talk?.close();
  return way;
}

async function reverseOf({ lookup }: RehearsalWorld, addresses: readonly string[]): Promise<{ seen: string }> {
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
