import { randomBytes } from 'node:crypto';
import { isIpAddress, plainAddress } from '../../core/address/ip-address.ts';
import { isOwnMachine } from '../../core/address/reach.ts';
import { BoundedMap } from '../../core/bounded-map.ts';
import { lookUp } from '../../core/records/answers.ts';
import { sameAddress } from '../../core/records/reverse-name.ts';
import type { RehearsalOrder } from '../../core/rehearsal/order.ts';
import type { RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { privateKeyOf, publicKeyOf, publicText } from '../../core/witness/key.ts';
import { isSignedAnswer, isSignedCall, readCall, type SignedCall, signAnswer, signCall } from '../../core/witness/signed-call.ts';
import { addEntry } from '../../store/journeys.ts';
import * as store from '../../store/witnesses.ts';
import { Problem } from '../base/problem.ts';
import type { RehearsalDeps } from './deps.ts';
import { RehearsalFault, type Witnesses } from './rehearsal-door.ts';
import { readOrder, readWays } from './rehearsal-wire.ts';
import { type RehearsalWorld, worldHere } from './rehearsal-world.ts';
import { walk } from './walk.ts';
import { SMTP_PORT } from './walk-receive.ts';

/** Where a witness is asked. */
export const ORDER_PATH = '/api/v1/witness/rehearsals';

/** Clocks of two hosts may differ by so much. */
const MOST_APART_S = 300;
/** Calls that are remembered, so that none is made twice; more than can be made while one is young. */
const MOST_NONCES = 10_000;
/** What one host may ask for, at once and in an hour. */
const MOST_AT_ONCE = 2;
const MOST_AN_HOUR = 60;
const HOUR = 3_600_000;
/** Hosts whose addresses are remembered, and of each so many. */
const MOST_ASKERS = 500;
const MOST_PROVEN = 8;
/** A rehearsal for another host ends by then. */
const LONGEST_MS = 100_000;
/** A witness connects to these and to no other. */
const MAIL_PORTS: ReadonlySet<number> = new Set([SMTP_PORT, 110, 143, 465, 587, 993, 995]);

interface Used {
  underWay: number;
  /** By the steady clock. */
  lately: number[];
}

/** Where other hosts have this one rehearse for them, and where this one asks them to. */
export class WitnessDesk implements Witnesses {
  private readonly nonces = new BoundedMap<string, true>(MOST_NONCES);
  private readonly used = new Map<string, Used>();
  private readonly proven = new BoundedMap<string, Set<string>>(MOST_ASKERS);

  constructor(private readonly context: () => RehearsalDeps) {}

  /** The key by which others know this host, as base64. */
  get publicKey(): string {
    return publicText(this.key);
  }

  /** Has a witness take the steps. */
  async ask(name: string, order: RehearsalOrder): Promise<RehearsalWay[]> {
    const { db, clock, host, askOut } = this.context();
    const witness = store.findWitness(db, name.toLowerCase());
    const key = witness?.publicKey ? publicKeyOf(witness.publicKey) : null;
    if (!witness || !key)
      throw new Problem('not-found', `${name.slice(0, 100)} is no witness of this host.`, 'List them: tenedor witness list', 'witness');
    if (witness.url === null)
      throw new Problem(
        'not-set-up',
        `${witness.name} asks this host, and has not said where it is asked itself.`,
        `Have it introduced anew: tenedor witness add ${witness.name}, with --url and --code`,
        'witness',
      );
    if (order.kind === 'signin' && isClear(witness.url))
      throw new Problem(
        'not-set-up',
        `${witness.name} is asked over http: the passes would cross the net in clear.`,
        'Introduce it by its https address.',
        'witness',
      );
    const body = JSON.stringify(order);
    const call: SignedCall = {
      path: ORDER_PATH,
      body,
      from: host.name,
      to: witness.name,
      created: Math.floor(clock.now() / 1000),
      nonce: randomBytes(18).toString('base64url'),
    };
    const answer = await askOut(witness.url + ORDER_PATH, signCall(call, this.key), body);
    if (answer.kind === 'failed')
      throw new Problem('witness', `${witness.name} does not answer: ${answer.reason}.`, `Look whether ${witness.url} leads to it.`);
    if (answer.status !== 200) throw new Problem('witness', `${witness.name} says: ${problemText(answer.body, answer.status)}`, AGAIN);
    if (!isSignedAnswer(answer.body, call, answer.headers, key))
      throw new Problem('witness', `What answers at ${witness.url} is not ${witness.name}.`, `Look where that address leads.`);
    const ways = readWays(parsedJson(answer.body));
    if (!ways) throw new Problem('witness', `${witness.name} answered what can’t be read.`, 'Look whether both have the same version.');
    await db.commit(() => store.noteAsked(db, witness.name, clock.now()));
    return ways;
  }

  /** Takes the steps that another host asks for; the answer is signed as the call was. */
  async answer(
    headers: Partial<Record<string, string>>,
    path: string,
    body: string,
    from: string,
  ): Promise<{ headers: Record<string, string>; body: string }> {
    const call = this.verified(headers, path, body);
    const order = readOrder(parsedJson(body));
    if (!order || order.host.name !== call.from)
      throw new Problem('bad-input', 'The order can’t be read.', 'Look whether both hosts have the same version.');
    const ways = await this.within(call.from, () => this.walkFor(order, this.provenOf(call.from, from)));
    const { db, clock } = this.context();
    const subject = order.kind === 'signin' ? order.user : order.kind === 'receive' ? order.address : order.host.name;
    await db.commit(() => {
      store.noteAsks(db, call.from, clock.now());
      addEntry(db, {
        at: clock.now(),
        journeyId: null,
        domain: null,
        event: 'rehearsed-for',
        data: { name: call.from, kind: order.kind, subject },
      });
    });
    const text = JSON.stringify(ways);
    return { headers: signAnswer(text, call, this.key), body: text };
  }

  private get key() {
    return privateKeyOf(this.context().keyFile.derived('calls between witnesses'));
  }

  private verified(headers: Partial<Record<string, string>>, path: string, body: string): SignedCall {
    const { db, clock, host } = this.context();
    const call = readCall(headers, path, body);
    const key = call && publicKeyOf(store.findWitness(db, call.from)?.publicKey ?? '');
    if (!call || !key || call.to !== host.name || !isSignedCall(call, headers, key))
      throw new Problem('not-signed-in', 'No witness of this host has signed that.', 'Connect both hosts: tenedor witness add');
    if (Math.abs(clock.now() / 1000 - call.created) > MOST_APART_S)
      throw new Problem('not-signed-in', 'The clocks of the two hosts are more than five minutes apart.', 'Set them: tenedor clock show');
    const nonce = `${call.from} ${call.nonce}`;
    if (this.nonces.has(nonce)) throw new Problem('not-signed-in', 'That call was made before.', AGAIN);
    this.nonces.set(nonce, true);
    return call;
  }

  /** Within what one host may ask for. */
  private async within<Result>(name: string, work: () => Promise<Result>): Promise<Result> {
    const now = this.context().clock.steady();
    const used = this.used.get(name) ?? { underWay: 0, lately: [] };
    this.used.set(name, used);
    used.lately = used.lately.filter((at) => now - at < HOUR);
    if (used.underWay >= MOST_AT_ONCE || used.lately.length >= MOST_AN_HOUR)
      throw new Problem('too-many', `${MOST_AT_ONCE} rehearsals at once and ${MOST_AN_HOUR} an hour are done for another host.`, AGAIN);
    used.underWay += 1;
    used.lately.push(now);
    let timer: NodeJS.Timeout | undefined;
    const tooLong = new Promise<never>((_resolve, reject) => {
      timer = setTimeout(() => reject(new Problem('busy', 'The rehearsal takes too long.', AGAIN)), LONGEST_MS);
    });
    try {
      return await Promise.race([work(), tooLong]);
    } finally {
      clearTimeout(timer);
      used.underWay -= 1;
    }
  }

  /** The addresses from which a host has asked under its signature, this one included: DNS alone permits nothing. */
  private provenOf(name: string, from: string): ReadonlySet<string> {
    const proven = this.proven.get(name) ?? new Set<string>();
    if (proven.size < MOST_PROVEN) proven.add(plainAddress(from));
    this.proven.set(name, proven);
    return proven;
  }

  /** Goes to addresses that are the asker’s by DNS and by its calls, and to ports of mail: nobody scans others through this host. */
  private async walkFor(order: RehearsalOrder, proven: ReadonlySet<string>): Promise<RehearsalWay[]> {
    const context = this.context();
    const here = worldHere(context, order.host);
    const answers = await Promise.all([lookUp(here.lookup, order.host.name, 'A'), lookUp(here.lookup, order.host.name, 'AAAA')]);
    const addresses = answers.flatMap((one) => (one.kind === 'found' ? one.values : []));
    if (addresses.length === 0)
      throw new Problem('not-found', `From here ${order.host.name} has no address in DNS.`, 'Publish its A and AAAA records.');
    // What is this host's own may be looked at by anybody: it may be the standby host of who asks.
    const inOwnWorld = context.host.toThisMachine === true;
    const goesTo = [...addresses.filter((one) => inOwnWorld || proven.has(plainAddress(one))), ...context.host.addresses];
    const world: RehearsalWorld = {
      ...here,
      host: { ...order.host, addresses },
      goesTo,
      open: async (address, port) => {
        if (!goesTo.some((own) => sameAddress(own, address))) throw new RehearsalFault('connection', 'not-of-asker');
        if (!MAIL_PORTS.has(port) || (isOwnMachine(address) && context.host.toThisMachine !== true))
          throw new RehearsalFault('connection', 'not-for-mail');
        return here.open(address, port);
      },
    };
    return walk(world, order);
  }
}

const AGAIN = 'Try again in some minutes.';

const isClear = (url: string): boolean => {
  const { protocol, hostname } = new URL(url);
  const name = hostname.replace(/^\[|\]$/g, '');
  return protocol === 'http:' && !(isIpAddress(name) && isOwnMachine(name));
};

function parsedJson(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}

function problemText(body: string, status: number): string {
  const detail = (parsedJson(body) as { detail?: unknown } | null)?.detail;
  return typeof detail === 'string' ? detail.slice(0, 300) : `status ${status}`;
}
