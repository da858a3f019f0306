import type { ClientSetting } from '../../core/records/client-settings.ts';
import type { RehearsalOrder } from '../../core/rehearsal/order.ts';
import type { RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { signInSteps, startTlsExchanges } from '../../core/rehearsal/scripts.ts';
import type { RehearsalTalk } from './rehearsal-door.ts';
import { addressesOf, connectToEach, lookAtCertificate, StepFailed, Way } from './rehearsal-steps.ts';
import type { RehearsalWorld } from './rehearsal-world.ts';
import { seeArrive, submitLetter } from './walk-message.ts';

type SignInOrder = Extract<RehearsalOrder, { kind: 'signin' }>;

/** Signs in as mail programs do, on each way, step by step. */
export async function walkSignIn(world: RehearsalWorld, { user, ways, letter }: SignInOrder): Promise<RehearsalWay[]> {
  // A mailbox is open to one POP3 program at a time: what speaks the same goes one after the other.
  const walked = new Map<ClientSetting, RehearsalWay>();
  await Promise.all(
    [...new Set(ways.map((one) => one.setting.protocol))].map(async (protocol) => {
      for (const { setting, pass } of ways)
        if (setting.protocol === protocol) walked.set(setting, await walkWay(world, user, setting, pass));
    }),
  );
  const all = ways.flatMap((one) => walked.get(one.setting) ?? []);
  const sends = ways.find((one) => one.setting.protocol === 'SMTP');
  const reads = ways.find((one) => one.setting.protocol === 'IMAP');
  if (!letter || !sends || !reads) return all;
  const way = new Way('A message to itself');
  await submitLetter(world, way, { user, ...sends }, user, letter);
  await seeArrive(world, way, { user, ...reads }, letter);
  return [...all, way];
}

async function walkWay(
  world: RehearsalWorld,
  user: string,
  { service, server, port, protocol, security }: ClientSetting,
  pass: string,
): Promise<RehearsalWay> {
  const way = new Way(`${protocol} ${port}, ${security}`);
  const heloName = world.host.name;
  let addresses: string[] = [];
  let line: RehearsalTalk | null = null;
  try {
    await way.step('name', `finds ${server}`, null, async () => {
      addresses = await addressesOf(world, server);
      return { seen: addresses.join(', ') };
    });
    await way.step('port', `reaches port ${port} of each address`, null, async () => {
      const { talk, fault } = await connectToEach(world, addresses, port);
      line = talk;
      if (fault) throw fault;
      return { seen: addresses.length === 1 ? 'it is open' : `it is open at all ${addresses.length}` };
    });
    // Where one address fails and another does not, programs may get in all the same.
    if (line) way.goOn();
    const talk = (): RehearsalTalk => line as unknown as RehearsalTalk;
    let pem = '';
    let isHere = false;
    await way.step('tls', 'begins TLS', talk, async () => {
      const before = startTlsExchanges(service, heloName);
      if (before) await talk().talk(before);
      const shown = await talk().startTls(server);
      pem = shown.pem;
      return { seen: shown.version };
    });
    await way.step('certificate', `looks at the certificate for ${server}`, null, async () => {
      const { verdict, text, action, isOurs } = lookAtCertificate(world, server, pem);
      isHere = isOurs;
      if (!isOurs)
        throw new StepFailed(
          `Another server answers: it shows a certificate that is none of this host’s. ${text}`,
          `Have ${server} lead here, at all of its addresses. The pass is for nobody else: it is not sent there.`,
        );
      if (verdict === 'wrong') throw new StepFailed(text, action);
      return { seen: text, action };
    });
    // Who takes what is shown all the same should see the rest; but only this host is signed in to.
    if (isHere) way.goOn();
    for (const { key, name, exchanges, seen, action } of signInSteps(service, { user, pass, heloName }))
      await way.step(
        key,
        name,
        talk,
        async () => {
          await talk().talk(exchanges);
          return { seen };
        },
        action,
      );
  } finally {
    (line as RehearsalTalk | null)?.close();
  }
  return way;
}
