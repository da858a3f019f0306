import { randomBytes } from 'node:crypto';
import { parseAddress } from '../../core/address/mailbox-address.ts';
import { domainSide } from '../../core/address/sides.ts';
import { clientSettings } from '../../core/records/client-settings.ts';
import type { RehearsalLetter } from '../../core/rehearsal/letter.ts';
import type { RehearsalOrder } from '../../core/rehearsal/order.ts';
import { isGoodWay, type Rehearsal, type RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { findDomain, findHome } from '../../store/domains.ts';
import { keepRehearsal } from '../../store/rehearsals.ts';
import { badInput, Problem } from '../base/problem.ts';
import { mailServerOf } from '../certificates/mail-server.ts';
import { requireDomain } from '../directory/domains.ts';
import { requireMailbox } from '../directory/mailboxes.ts';
import type { RehearsalDeps } from './deps.ts';
import { followMessage, journeyIn } from './follow-message.ts';
import { rehearsedHost, worldHere } from './rehearsal-world.ts';
import { walk } from './walk.ts';

/** How a rehearsal is made. */
export interface Manner {
  /** The witness that takes the steps; null for this host. */
  witness: string | null;
  /** Whether a real message is sent, and seen to arrive. */
  message: boolean;
}
const PLAIN: Manner = { witness: null, message: false };

/**
 * Signs in as mail programs do, on every way that the settings sheet shows, with passes of this service's own. Without a message nothing is sent or changed;
 * one that is sent is taken away again.
 */
export async function rehearseSignIn(context: RehearsalDeps, text: string, manner = PLAIN): Promise<Rehearsal> {
  const { host, passes, clock } = context;
  const mailbox = requireMailbox(context, text);
  const server = mailServerOf(context, requireDomain(context, mailbox.domain));
  const settings = clientSettings(server, host.services ?? {});
  if (settings.length === 0)
    throw new Problem(
      'not-set-up',
      'No port for mail programs is open here.',
      'Open one in the configuration: a [[listener]] with the service imaps, for example.',
    );
  if (manner.message && !(settings.some((one) => one.protocol === 'SMTP') && settings.some((one) => one.protocol === 'IMAP')))
    throw new Problem(
      'not-set-up',
      'A message to itself needs submission and IMAP, which are not both open here.',
      'Open them: a [[listener]] each.',
    );
  const ways = settings.map((setting) => ({ setting, pass: passes.give(mailbox.id, clock.steady()) }));
  try {
    return await walked(
      context,
      mailbox.address,
      { kind: 'signin', host: rehearsedHost(context), user: mailbox.address, ways, letter: letterOf(context, manner) },
      manner.witness,
    );
  } finally {
    for (const { pass } of ways) passes.take(pass);
  }
}

/** Brings mail for an address as another server does, step by step and up to the message. */
export async function rehearseReceive(context: RehearsalDeps, text: string, manner = PLAIN): Promise<Rehearsal> {
  const parsed = parseAddress(text.trim());
  if (parsed.kind === 'invalid')
    throw badInput('address', `“${text.slice(0, 80)}” is not an address: ${parsed.reason}.`, 'Write it like ana@shop.example.');
  const address = text.trim().toLowerCase();
  const { name } = requireDomain(context, domainSide(address));
  const order = {
    kind: 'receive' as const,
    host: rehearsedHost(context),
    address,
    relay: relayOrder(context, name),
    letter: letterOf(context, manner),
  };
  return walked(context, address, order, manner.witness, async (ways) => {
    const journeyId = manner.message ? journeyIn(ways) : null;
    return journeyId === null ? ways : [...ways, await followMessage(context, journeyId)];
  });
}

/** Tries to have mail for strangers passed on by this host, at each of its addresses. */
export const rehearseRelay = (context: RehearsalDeps, witness: string | null = null): Promise<Rehearsal> =>
  walked(
    context,
    context.host.name,
    { kind: 'relay', host: rehearsedHost(context), relay: relayOrder(context, domainHere(context)) },
    witness,
  );

/** One with a mark that nobody else has. */
export const letterOf = ({ clock }: RehearsalDeps, { message }: Pick<Manner, 'message'>): RehearsalLetter | null =>
  message ? { mark: randomBytes(10).toString('hex'), at: clock.now() } : null;

const relayOrder = ({ db, passes, clock }: RehearsalDeps, domain: string) => ({
  domain,
  takesAll: (findDomain(db, domain)?.catchAll ?? null) !== null,
  greeting: passes.greeting(clock.steady()),
});

/** A domain whose mailboxes are here, that does not take every local part if there is one such. */
const domainHere = ({ db, host }: RehearsalDeps): string => findHome(db) ?? domainSide(host.postmaster);

/** Takes the steps here, or has a witness take them, and keeps what came of it. */
async function walked(
  context: RehearsalDeps,
  subject: string,
  order: RehearsalOrder,
  witness: string | null,
  follow = async (ways: RehearsalWay[]) => ways,
): Promise<Rehearsal> {
  const { db, clock, witnesses } = context;
  const ways = await follow(witness === null ? await walk(worldHere(context, order.host), order) : await witnesses.ask(witness, order));
  const made = {
    kind: order.kind,
    subject,
    recipient: null,
    witness: witness?.toLowerCase() ?? null,
    at: clock.now(),
    isGood: ways.every(isGoodWay),
    ways,
  };
  return { id: await db.commit(() => keepRehearsal(db, made)), ...made };
}
