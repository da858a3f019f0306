import { judge } from '../judgement/judge.ts';
import type { Lookup } from '../records/answers.ts';
import { clientFindings } from './client.ts';
import type { TrialFacts } from './facts.ts';
import { type MessageScore, scoreOf } from './finding.ts';
import { judgedFindings } from './judged.ts';
import { listFindings } from './list-mail.ts';
import type { MessageReading } from './reading.ts';

/**
 * What a message is worth to a strict receiver, by what DNS says now. Its dates are looked at as on the day on which it came, so that a
 * signature which has expired since is not held against it.
 */
export async function scoreMessage(
  text: Buffer,
  reading: MessageReading,
  facts: TrialFacts,
  { blockLists, receiver }: { blockLists: readonly string[]; receiver: string },
  lookup: Lookup,
): Promise<MessageScore> {
  const { client, sender, at } = facts;
  const arrival = { clientAddress: client?.address ?? null, helo: client?.greeting ?? '', sender, content: text };
  const [judgement, ofClient] = await Promise.all([
    // Every policy counts, also one for a share of the mail.
    judge(arrival, lookup, { receiver, now: at, draw: 0 }),
    clientFindings(facts, blockLists, lookup),
  ]);
  return scoreOf([...judgedFindings(judgement, facts), ...ofClient, ...reading.findings, ...listFindings(reading.list, judgement.dkim)]);
}
