import { ChainFault, readChain } from '../../core/certificates/chain.ts';
import { certificateFindings } from '../../core/certificates/findings.ts';
import { lookUp } from '../../core/records/answers.ts';
import { type ClientSetting, clientSettings } from '../../core/records/client-settings.ts';
import { sameAddress } from '../../core/records/reverse-name.ts';
import { connectionFault, isGoodWay, type Rehearsal, type RehearsalStep, type RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { signInSteps, startTlsExchanges } from '../../core/rehearsal/scripts.ts';
import { REHEARSALS } from '../../core/vocabulary.ts';
import { keepRehearsal } from '../../store/rehearsals.ts';
import { Problem } from '../base/problem.ts';
import { mailServerOf } from '../certificates/mail-server.ts';
import { requireDomain } from '../directory/domains.ts';
import { requireMailbox } from '../directory/mailboxes.ts';
import type { InsightDeps } from './deps.ts';
import { RehearsalFault, type RehearsalTalk } from './rehearsal-door.ts';

type Took = Pick<RehearsalStep, 'seen'> & Partial<Pick<RehearsalStep, 'action' | 'state'>>;

/** What a step came to when it failed. */
class StepFailed extends Error {
  constructor(
    readonly seen: string,
    readonly action: string,
  ) {
    super(seen);
  }
}

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
  const made = { kind: REHEARSALS[0], subject: mailbox.address, at: clock.now(), isGood: all.every(isGoodWay), ways: all };
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
    await way.step('tls', 'begins TLS', talk, async () => {
      const before = startTlsExchanges(service, heloName);
      if (before) await talk().talk(before);
      const shown = await talk().startTls(server);
      pem = shown.pem;
      return { seen: shown.version };
    });
    await way.step('certificate', `looks at the certificate for ${server}`, null, async () => lookAtCertificate(context, server, pem));
    // Who takes what is shown all the same should see the rest.
    if (pem !== '') way.goOn();
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

/** Puts steps behind one another: after one that has failed, the others are not reached. */
class Way implements RehearsalWay {
  readonly steps: RehearsalStep[] = [];
  private isOver = false;

  constructor(readonly name: string) {}

  /** The step before has failed, and the next ones can be taken all the same. */
  goOn(): void {
    this.isOver = false;
  }

  async step(
    key: string,
    name: string,
    talk: (() => RehearsalTalk) | null,
    work: () => Promise<Took>,
    action = 'The log of the service says more.',
  ): Promise<void> {
    if (this.isOver) {
      this.steps.push({ key, name, state: 'not-reached', ms: null, seen: '', action: '', said: [] });
      return;
    }
    const begun = performance.now();
    const end = (took: Took): void => {
      const said = talk?.().said() ?? [];
      this.steps.push({ key, name, state: 'done', action: '', ...took, ms: Math.round(performance.now() - begun), said });
    };
    try {
      end(await work());
    } catch (error) {
      if (error instanceof StepFailed) end({ state: 'failed', seen: error.seen, action: error.action });
      else if (error instanceof RehearsalFault) end({ state: 'failed', ...faultOf(error, action) });
      else throw error;
      this.isOver = true;
    }
  }
}

function faultOf({ kind, what }: RehearsalFault, action: string): { seen: string; action: string } {
  if (kind === 'answer') return { seen: `It was answered: ${what}`, action };
  if (kind === 'tls')
    return {
      seen: `TLS did not begin (${what}).`,
      action: 'Look whether the port speaks TLS at once, or only when it is asked to; and at the log of the service.',
    };
  return connectionFault(what);
}

async function addressesOf({ lookup }: InsightDeps, server: string): Promise<string[]> {
  const answers = await Promise.all([lookUp(lookup, server, 'A'), lookUp(lookup, server, 'AAAA')]);
  const found = answers.flatMap((one) => (one.kind === 'found' ? one.values : []));
  if (found.length > 0) return found;
  const failed = answers.find((one) => one.kind === 'failed');
  throw new StepFailed(
    failed?.kind === 'failed' ? `DNS gives no answer about ${server}: ${failed.reason}.` : `${server} has no address in DNS.`,
    failed
      ? 'Look at the resolvers: tenedor host show'
      : `Publish its A and AAAA records; for a name of a domain: tenedor certificate show ${server}`,
  );
}

/** Connects to all addresses of a name, as clients take any of them; goes on with the first that can be had. */
async function connectToEach(
  { host, rehearse }: InsightDeps,
  addresses: readonly string[],
  port: number,
): Promise<{ talk: RehearsalTalk | null; fault: StepFailed | null }> {
  const results = await Promise.all(
    addresses.map(async (address) => {
      try {
        return { address, talk: await rehearse(address, port), fault: null };
      } catch (error) {
        if (error instanceof RehearsalFault) return { address, talk: null, fault: error.what };
        throw error;
      }
    }),
  );
  const [talk = null, ...others] = results.flatMap((one) => one.talk ?? []);
  for (const one of others) one.close();
  const bad = results.find((one) => one.fault !== null);
  if (!bad) return { talk, fault: null };
  const { seen, action } = connectionFault(bad.fault ?? undefined);
  const isOurs = host.addresses.some((own) => sameAddress(own, bad.address));
  const text = `At ${bad.address}: ${seen}`;
  return {
    talk,
    fault: new StepFailed(
      text,
      isOurs ? action : `${bad.address} is none of this host’s addresses: take it out of DNS, or have it lead here.`,
    ),
  };
}

function lookAtCertificate({ certificates, clock }: InsightDeps, server: string, pem: string): Took {
  try {
    const [worst] = certificateFindings(server, readChain(pem, certificates.roots), {
      now: clock.now(),
      isRenewed: certificates.for(server)?.source === 'fetched',
    });
    if (worst?.verdict === 'wrong') throw new StepFailed(worst.text, worst.action);
    return { seen: worst?.text ?? '', action: worst?.action ?? '' };
  } catch (error) {
    if (error instanceof ChainFault) throw new StepFailed(error.message, 'Look at it: tenedor certificate check');
    throw error;
  }
}
