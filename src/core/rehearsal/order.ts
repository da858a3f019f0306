import type { ClientSetting } from '../records/client-settings.ts';
import type { RehearsalLetter } from './letter.ts';

/** The host that is rehearsed, as whoever takes the steps has to know it. */
export interface RehearsedHost {
  name: string;
  addresses: readonly string[];
  /** Of the certificates that it may show. Whoever shows one of them has its key. */
  fingerprints: readonly string[];
  /** Names whose certificate is renewed by itself. */
  renewed: readonly string[];
}

/** What is to be done, in plain values: here, or by a witness. */
export type RehearsalOrder =
  /** Signs in on each of these ways, with a pass for each; and sends itself a message, if there is one. */
  | {
      kind: 'signin';
      host: RehearsedHost;
      user: string;
      ways: readonly { setting: ClientSetting; pass: string }[];
      letter: RehearsalLetter | null;
    }
  /** Brings mail for an address, up to the message, or with it. */
  | { kind: 'receive'; host: RehearsedHost; address: string; relay: RelayOrder; letter: RehearsalLetter | null }
  /** Tries to have mail for strangers passed on. */
  | { kind: 'relay'; host: RehearsedHost; relay: RelayOrder };

export interface RelayOrder {
  /** A domain whose mail the host takes. */
  domain: string;
  /** Whether it takes every local part. */
  takesAll: boolean;
  /** A name to greet with, by which the host knows that it is a rehearsal. */
  greeting: string;
}
