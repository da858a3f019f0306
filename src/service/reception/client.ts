import type { Reply } from '../../core/smtp/replies.ts';
import { knownNetworkOf } from '../directory/networks.ts';
import type { ReceptionDeps } from './deps.ts';
import type { Submitter } from './submitter.ts';

/** The other end of a conversation, and what is known of it. */
export interface Client {
  address: string;
  /** Who sends from here to the outside; null for a server that brings mail. */
  submitter: Submitter | null;
  /** Whether its network is trusted, and so never judged by its greeting or by lists. */
  isTrusted: boolean;
  /** The block list that has its address, looked up once. */
  listed: Promise<string | null> | null;
}

/** Who is at the other end when nobody has signed in yet. */
export function clientAt(context: ReceptionDeps, address: string): Client {
  const network = knownNetworkOf(context.db, address);
  return { address, submitter: network?.maySubmit ? { kind: 'network', network } : null, isTrusted: network !== null, listed: null };
}

/** A refusal, and what decided it: a rule, setting or record by its name, for people who ask why. */
export interface Refused {
  kind: 'refused';
  reply: Reply;
  rule: string;
}

export const refused = (reply: Reply, rule: string): Refused => ({ kind: 'refused', reply, rule });
