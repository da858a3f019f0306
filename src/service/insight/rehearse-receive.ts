import { parseAddress } from '../../core/address/mailbox-address.ts';
import { domainSide } from '../../core/address/sides.ts';
import { lookUp } from '../../core/records/answers.ts';
import { reverseName, sameAddress } from '../../core/records/reverse-name.ts';
import { isGoodWay, type Rehearsal, type RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { greetingExchanges, recipientExchanges, relayExchanges, serverTlsExchanges } from '../../core/rehearsal/scripts.ts';
import { findDomain } from '../../store/domains.ts';
import { keepRehearsal } from '../../store/rehearsals.ts';
import { badInput } from '../base/problem.ts';
import { requireDomain } from '../directory/domains.ts';
import type { InsightDeps } from './deps.ts';
import type { RehearsalTalk } from './rehearsal-door.ts';
import { addressesOf, connectToEach, lookAtCertificate, StepFailed, Way } from './rehearsal-steps.ts';

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
  let line: RehearsalTalk | null = null;
  const talk = (): RehearsalTalk => line as unknown as RehearsalTalk;
  try {
    await way.step('name', `finds ${server}`, null, async () => {
      addresses = await addressesOf(context, server);
      return { seen: addresses.join(', ') };
    });
    await way.step('port', `reaches port ${SMTP_PORT} of each address`, null, async () => {
      const { talk: open, fault } = await connectToEach(context, addresses, SMTP_PORT);
      line = open;
      if (fault) throw fault;
      return { seen: addresses.length === 1 ? 'it is open' : `it is open at all ${addresses.length}` };
    });
    if (line) way.goOn();
    let greeted = '';
    await way.step(
      'greeting',
      'is greeted',
      talk,
      async () => {
        greeted = await talk().talk(greetingExchanges(greeting));
        return { seen: greeted.split('\n')[0]?.replace(/^\d{3}[ -]/, '') ?? '' };
      },
      'Look at the log: too many connections, a block list, or a server that is stopping refuse here.',
    );
    const isOurs = addresses.some((one) => host.addresses.some((own) => sameAddress(own, one)));
    if (isOurs)
      await way.step('reverse', 'looks whether each address leads back to a name that leads to it', null, async () =>
        reverseOf(context, addresses),
      );
    // Others look at it when we send: mail comes all the same.
    if (greeted !== '') way.goOn();
    let isSecure = false;
    if (/^250[ -]STARTTLS\s*$/im.test(greeted)) {
      let pem = '';
      await way.step('tls', 'begins TLS', talk, async () => {
        await talk().talk(serverTlsExchanges);
        const shown = await talk().startTls(server);
        pem = shown.pem;
        isSecure = true;
        return { seen: shown.version };
      });
      await way.step('certificate', `looks at the certificate for ${server}`, null, async () => {
        const { text, action } = lookAtCertificate(context, server, pem);
        // Between servers a certificate that nobody vouches for is taken, as the alternative is none (RFC 7435).
        return { seen: text, action };
      });
    } else if (greeted !== '') {
      await way.step('tls', 'begins TLS', null, async () => {
        throw new StepFailed(
          'STARTTLS is not offered: mail comes in clear.',
          'Look at what stands between: some firewalls take it out of the answer.',
        );
      });
      way.goOn();
    }
    await way.step(
      'recipient',
      `may bring mail for ${address}`,
      talk,
      async () => {
        await talk().talk(recipientExchanges(address, isSecure ? greeting : null));
        return { seen: 'the address is taken; nothing was sent' };
      },
      `See what decides it: tenedor explain --to ${address}`,
    );
    // What is refused there must not keep this from being seen.
    if (greeted !== '' && isOurs) way.goOn();
    if (isOurs)
      await way.step(
        'relay',
        'is refused mail for strangers, however it is written',
        talk,
        async () => {
          await talk().talk([
            { expect: null, say: { text: 'RSET\r\n' } },
            { expect: /^250 .*\r\n/m, say: null },
            ...relayExchanges(domain, findDomain(context.db, domain)?.catchAll !== null),
          ]);
          return { seen: 'no mail of strangers is passed on' };
        },
        'The address from which this was tried may send without signing in: tenedor network list',
      );
  } finally {
    (line as RehearsalTalk | null)?.close();
  }
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
