import type { RehearsalKind, StepState } from '../vocabulary.ts';

/** One step of a rehearsal, as a client would take it. */
export interface RehearsalStep {
  /** The same in every run: by it two runs are compared. */
  key: string;
  /** What is tried. */
  name: string;
  state: StepState;
  /** How long it took; null where it was not reached. */
  ms: number | null;
  /** What came of it, in words. */
  seen: string;
  /** What to do; empty where nothing is. */
  action: string;
  /** What was said on the wire, passwords left out. */
  said: { by: 'us' | 'them'; text: string }[];
  /** The message that it is about, where one was sent. */
  journeyId?: string;
}

/** Steps that follow on one another: when one fails, those behind it are not reached. */
export interface RehearsalWay {
  name: string;
  steps: RehearsalStep[];
}

export interface Rehearsal {
  id: number;
  kind: RehearsalKind;
  /** Whom it is about. */
  subject: string;
  /** Whom a message is to; null where none is. */
  recipient: string | null;
  /** Who took the steps from outside; null for this host. */
  witness: string | null;
  /** In ms. */
  at: number;
  isGood: boolean;
  ways: RehearsalWay[];
}

export const isGoodWay = ({ steps }: RehearsalWay): boolean => steps.every((one) => one.state === 'done');

/** The state of each step in an earlier run, where it was another one. */
export function changesSince(before: Pick<Rehearsal, 'ways'> | null, now: Pick<Rehearsal, 'ways'>): Map<string, StepState> {
  const old = new Map(before?.ways.flatMap((way) => way.steps.map((step) => [`${way.name} ${step.key}`, step.state] as const)) ?? []);
  const changed = new Map<string, StepState>();
  for (const way of now.ways)
    for (const step of way.steps) {
      const was = old.get(`${way.name} ${step.key}`);
      if (was !== undefined && was !== step.state) changed.set(`${way.name} ${step.key}`, was);
    }
  return changed;
}

/** Why a connection did not come about, told apart as a firewall, a closed port and a missing route are. */
export function connectionFault(code: string | undefined): { seen: string; action: string } {
  switch (code) {
    case 'ECONNREFUSED':
      return {
        seen: 'The connection is refused: nothing listens at that port.',
        action: 'Look at the [[listener]] of that service, and at the port that the router leads there.',
      };
    case 'ETIMEDOUT':
      return {
        seen: 'No answer at all: something on the way drops it, most often a firewall.',
        action: 'Open the port in the firewall of this machine, and in that of its network.',
      };
    case 'EHOSTUNREACH':
    case 'ENETUNREACH':
    case 'EADDRNOTAVAIL':
      return {
        seen: 'There is no way to that address from here.',
        action: 'Look at the routes of this machine; an address that it does not have should not be in DNS.',
      };
    case 'not-of-asker':
      return {
        seen: 'It is none of the addresses from which the host that asks has called: a witness goes to no other.',
        action: 'Ask from that address, too: a witness knows by each call that an address is yours.',
      };
    case 'not-public':
      return {
        seen: 'It is no public address: tests connect to public addresses, and to those of this host.',
        action: 'Take it out of DNS if others are to reach that host; within a network of its own, set outgoing.to_this_machine.',
      };
    case 'too-many':
      return {
        seen: 'One test makes no more connections: DNS names more servers than anybody needs.',
        action: 'Look at the MX and address records.',
      };
    case 'not-for-mail':
      return {
        seen: 'A witness connects to the usual ports of mail only, and not to its own machine.',
        action: 'Rehearse that port from this host, without --from.',
      };
    case 'ECONNRESET':
    case 'EPIPE':
      return {
        seen: 'The connection was cut off.',
        action: 'Look at what stands between: a proxy that expects another protocol, or too many connections of one address.',
      };
    default:
      return { seen: `The connection failed (${code ?? 'closed'}).`, action: 'The log of the service says more.' };
  }
}
