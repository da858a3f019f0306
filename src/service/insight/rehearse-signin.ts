import { type ClientSetting, clientSettings } from '../../core/records/client-settings.ts';
import { isGoodWay, type Rehearsal, type RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { signInSteps, startTlsExchanges } from '../../core/rehearsal/scripts.ts';
import { keepRehearsal } from '../../store/rehearsals.ts';
import { Problem } from '../base/problem.ts';
import { mailServerOf } from '../certificates/mail-server.ts';
import { requireDomain } from '../directory/domains.ts';
import { requireMailbox } from '../directory/mailboxes.ts';
import type { InsightDeps } from './deps.ts';
import type { RehearsalTalk } from './rehearsal-door.ts';
import { addressesOf, connectToEach, lookAtCertificate, StepFailed, Way } from './rehearsal-steps.ts';

/** Signs in as mail programs do, on every way that the settings sheet shows, step by step; with a pass of this service's own, and nothing is sent or changed. */
export async function rehearseSignIn(context: InsightDeps, text: string): Promise<Rehearsal> {
  const { db, clock, host } = context;
  const mailbox = requireMailbox(context, text);
  const server = mailServerOf(context, requireDomain(context, mailbox.domain));
  const settings = clientSettings(server, host.services ?? {});
  if (settings.length === 0)
    throw new Problem(
      'not-set-up',
      'No port for mail programs is open here.',
      'Open one in the configuration: a [[listener]] with the service imaps, for example.',
    );
  // Looked up anew: what a client of today would get.
  context.dns.forget();
  // A mailbox is open to one POP3 program at a time: what speaks the same goes one after the other.
  const ways = new Map<ClientSetting, RehearsalWay>();
  await Promise.all(
    [...new Set(settings.map((one) => one.protocol))].map(async (protocol) => {
      for (const one of settings.filter((setting) => setting.protocol === protocol))
        ways.set(one, await rehearseWay(context, mailbox, one));
    }),
  );
  const all = settings.flatMap((one) => ways.get(one) ?? []);
  const made = { kind: 'signin' as const, subject: mailbox.address, at: clock.now(), isGood: all.every(isGoodWay), ways: all };
  return { id: await db.commit(() => keepRehearsal(db, made)), ...made };
}

async function rehearseWay(context: InsightDeps, mailbox: { id: number; address: string }, setting: ClientSetting): Promise<RehearsalWay> {
  const { host, passes, clock } = context;
  const { service, server, port, protocol, security } = setting;
  const way = new Way(`${protocol} ${port}, ${security}`);
  const heloName = host.name;
  const pass = passes.give(mailbox.id, clock.steady());
  let addresses: string[] = [];
  let line: RehearsalTalk | null = null;
  try {
    await way.step('name', `finds ${server}`, null, async () => {
      addresses = await addressesOf(context, server);
      return { seen: addresses.join(', ') };
    });
    await way.step('port', `reaches port ${port} of each address`, null, async () => {
      const { talk, fault } = await connectToEach(context, addresses, port);
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
      const { verdict, text, action, isOurs } = lookAtCertificate(context, server, pem);
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
    for (const { key, name, exchanges, seen, action } of signInSteps(service, { user: mailbox.address, pass, heloName }))
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
    passes.take(pass);
    (line as RehearsalTalk | null)?.close();
  }
  return way;
}
