import { domainSide } from '../../core/address/sides.ts';
import { clientSettings } from '../../core/records/client-settings.ts';
import { isGoodWay, type Rehearsal, type RehearsalStep, type RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { recipientExchanges } from '../../core/rehearsal/scripts.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { keepRehearsal } from '../../store/rehearsals.ts';
import type { RemoteHost } from '../base/ports.ts';
import { Problem } from '../base/problem.ts';
import { mailServerOf } from '../certificates/mail-server.ts';
import { chooseOutlet, hostsOf } from '../delivery/choose-hosts.ts';
import { requireDomain } from '../directory/domains.ts';
import { requireMailbox } from '../directory/mailboxes.ts';
import { type ExplainStep, explain } from '../overview/explain.ts';
import type { RehearsalDeps } from './deps.ts';
import { followMessage, journeyIn } from './follow-message.ts';
import { meetServer } from './meet-server.ts';
import { StepFailed, Way } from './rehearsal-steps.ts';
import { rehearsedHost, worldHere } from './rehearsal-world.ts';
import { letterOf } from './rehearse.ts';
import { submitLetter } from './walk-message.ts';

/** Hosts that are tried: a message takes the first that lets it in. */
const MOST_HOSTS = 3;

const WORDS: Record<ExplainStep['step'], string> = {
  client: 'who sends',
  sender: 'as whom',
  recipient: 'where the address leads',
  judgement: 'how it is judged',
  limit: 'what it is charged to',
  way: 'how it leaves',
  end: 'where it ends',
};

/** Sends from a mailbox to somebody, step by step and up to the message, or with it: what is decided here, and what the other server says to it. */
export async function rehearseSend(context: RehearsalDeps, from: string, to: string, message = false): Promise<Rehearsal> {
  const { db, clock } = context;
  const mailbox = requireMailbox(context, from);
  const told = await explain(context, { from: mailbox.address, to, ip: null, as: mailbox.address });
  const ways: RehearsalWay[] = [{ name: 'Decided here', steps: told.steps.map(decidedStep) }];
  if (told.outcome !== 'refused') ways.push(...(await rehearseOutside(context, mailbox.address, to)));
  if (message && ways.every(isGoodWay)) ways.push(...(await sendLetter(context, mailbox, to)));
  const made = {
    kind: 'send' as const,
    subject: mailbox.address,
    recipient: to,
    witness: null,
    at: clock.now(),
    isGood: ways.every(isGoodWay),
    ways,
  };
  return { id: await db.commit(() => keepRehearsal(db, made)), ...made };
}

/** Submits a message as a mail program does, and follows it to its first outcome. It is charged like any other. */
async function sendLetter(
  context: RehearsalDeps,
  mailbox: { id: number; address: string; domain: string },
  to: string,
): Promise<RehearsalWay[]> {
  const { host, passes, clock } = context;
  const settings = clientSettings(mailServerOf(context, requireDomain(context, mailbox.domain)), host.services ?? {});
  const setting = settings.find((one) => one.protocol === 'SMTP');
  const letter = letterOf(context, { message: true });
  if (!setting || !letter)
    throw new Problem('not-set-up', 'No port for submission is open here.', 'Open one: a [[listener]] with the service submissions.');
  const pass = passes.give(mailbox.id, clock.steady());
  const way = new Way('As a mail program');
  try {
    await submitLetter(worldHere(context, rehearsedHost(context)), way, { user: mailbox.address, setting, pass }, to, letter);
  } finally {
    passes.take(pass);
  }
  const journeyId = journeyIn([way]);
  return journeyId === null ? [way] : [way, await followMessage(context, journeyId)];
}

function decidedStep({ step, verdict, text, rule }: ExplainStep, place: number, all: readonly ExplainStep[]): RehearsalStep {
  const before = all.slice(0, place).filter((one) => one.step === step).length;
  return {
    key: `${step} ${before}`,
    name: WORDS[step],
    state: verdict === 'stop' ? 'failed' : 'done',
    ms: null,
    seen: text,
    action: verdict === 'stop' ? `What decides: ${rule}. See: tenedor explain` : '',
    said: [],
  };
}

/** The other servers, where the message would leave from here. */
async function rehearseOutside(context: RehearsalDeps, from: string, to: string): Promise<RehearsalWay[]> {
  const destination = domainSide(to);
  const known = findDomainFacts(context.db, destination);
  if (known && known.role !== 'away') return [];
  const choice = chooseOutlet(context, { senderDomain: domainSide(from), destination }, null);
  if (choice.kind === 'wait') return [];
  const found = await hostsOf(context, choice.outlet, destination, (values) => values);
  if (found.kind !== 'hosts') {
    const way = new Way(destination);
    await way.step('hosts', `finds the hosts of ${destination}`, null, async () => {
      throw new StepFailed(found.reason, 'Look at its records; what is wrong there can be mended by its own people only.');
    });
    return [way];
  }
  const ways: RehearsalWay[] = [];
  for (const one of found.hosts.slice(0, MOST_HOSTS)) {
    const way = await (one.credentials === null ? rehearseHost(context, one, from, to) : walkSmartHost(context, one));
    ways.push(way);
    // A message goes no further either.
    if (isGoodWay(way)) break;
  }
  return ways;
}

async function rehearseHost(
  context: RehearsalDeps,
  { name, address, port, tls }: RemoteHost,
  from: string,
  to: string,
): Promise<RehearsalWay> {
  const { host } = context;
  const way = new Way(`${name} [${address}]`);
  const { talk, isSecure } = await meetServer(worldHere(context, rehearsedHost(context)), way, {
    name,
    addresses: [address],
    port,
    greeting: host.name,
    action: 'What it says tells why: reverse DNS, a block list, or too many connections. See: tenedor host show',
    notOurs: 'It is their server, and theirs to mend. Mail for it waits here, and is tried again for days: tenedor queue list',
    needsTls: tls === 'required',
  });
  await way.step(
    'recipient',
    `may bring mail of ${from} for ${to}`,
    talk && (() => talk),
    async () => {
      await talk?.talk(recipientExchanges(to, isSecure ? host.name : null, from));
      // RFC 7489 §6.6, RFC 7208 §2.4: what is decided when the text has come can't be asked without one.
      return {
        seen: 'sender and recipient are taken, and nothing was sent: what it decides of a message itself, as by DMARC, was not tried',
      };
    },
    'What it says is its own decision: look at our SPF, reverse DNS and block lists (tenedor check, tenedor host show), or ask its postmaster.',
  );
  talk?.close();
  return way;
}

/** A smart host is signed in to, and no further: it is walked as its own test does. */
async function walkSmartHost(context: RehearsalDeps, host: RemoteHost): Promise<RehearsalWay> {
  const walked = await context.walk(host);
  return {
    name: `${host.name} [${host.address}]`,
    steps: walked.map(({ step, good, text }) => ({
      key: step,
      name: step,
      state: good ? 'done' : 'failed',
      ms: null,
      seen: text,
      action: good ? '' : 'Look at the outlet: tenedor outlet test',
      said: [],
    })),
  };
}
