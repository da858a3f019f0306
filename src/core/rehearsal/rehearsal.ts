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
        seen: 'Connection refused: nothing listens on that port.',
        action: 'Check the [[listener]] of that service, and port forwarding on the router.',
      };
    case 'ETIMEDOUT':
      return {
        seen: 'No answer: packets are dropped on the way, most often by a firewall.',
        action: 'Open the port in the firewalls of this machine and its network.',
      };
    case 'EHOSTUNREACH':
    case 'ENETUNREACH':
    case 'EADDRNOTAVAIL':
      return {
        seen: 'There is no route to that address from here.',
        action: 'Check the routes of this machine. An address it does not have should not be in DNS.',
      };
    case 'not-of-asker':
      return {
        seen: 'It is not an address from which the other host has called; a witness connects to no other.',
        action: 'Call the witness from that address too, so that it knows the address is yours.',
      };
    case 'not-public':
      return {
        seen: 'It is not a public address: tests connect only to public addresses and to this host’s.',
        action: 'Remove it from DNS if other servers must reach that host. In a private network, set outgoing.to_this_machine.',
      };
    case 'too-many':
      return {
        seen: 'The test stopped: DNS names too many servers.',
        action: 'Check the MX and address records.',
      };
    case 'not-for-mail':
      return {
        seen: 'A witness connects only to the standard mail ports, and not to its own machine.',
        action: 'Test that port from this host, without --from.',
      };
    case 'ECONNRESET':
    case 'EPIPE':
      return {
        seen: 'The connection was closed.',
        action: 'Check for a proxy that expects another protocol, or a limit on connections per address.',
      };
    default:
      return { seen: `The connection failed (${code ?? 'closed'}).`, action: 'See the service’s log for details.' };
  }
}
