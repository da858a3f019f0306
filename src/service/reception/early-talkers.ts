import { whoseAddress } from '../../core/address/ip-address.ts';
import { BoundedMap } from '../../core/bounded-map.ts';
import type { Reply } from '../../core/smtp/replies.ts';
import { addEntry } from '../../store/journeys.ts';
import { faultText } from '../base/problem.ts';
import type { ReceptionDeps } from './deps.ts';

/** Who floods the port is no news each time. */
const TOLD_AGAIN_MS = 3_600_000;
const MOST_KNOWN = 10_000;

const told = new WeakMap<object, BoundedMap<string, number>>();

/** Journals that a client spoke before it was greeted, once an hour for each address (of IPv6: 64 bits): whoever asks why nothing came finds it. */
export function noteEarlyTalker(context: ReceptionDeps, client: string, reply: Reply): void {
  const { db, clock, log } = context;
  const known = told.get(db) ?? new BoundedMap<string, number>(MOST_KNOWN);
  told.set(db, known);
  const key = whoseAddress(client);
  const now = clock.steady();
  const before = known.get(key);
  if (before !== undefined && now - before < TOLD_AGAIN_MS) return;
  known.renew(key, now);
  const line = `${reply.code} ${reply.status ?? ''} ${reply.text}`;
  db.commit(() =>
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'spoke-early', data: { client, reply: line } }),
  ).catch((error: unknown) => log.error({ client, fault: faultText(error) }, 'who spoke early could not be journalled'));
}
