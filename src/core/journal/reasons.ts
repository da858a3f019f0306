const LONGEST = 160;

/**
 * What another server's replies have in common: the same refusal with another address, number or id in it is the same reason. Those parts become “…”,
 * so that replies can be counted together.
 */
export function reasonOf(reply: string): string {
  return (
    reply
      .slice(0, 1000)
      .replace(/<[^<>\s]{1,320}>/g, '…')
      .replace(/[^\s<>()[\]"';,:]{1,64}@[^\s<>()[\]"';,:]{1,255}/g, '…')
      .replace(/https?:\/\/\S+/g, '…')
      // Ids: long words that hold a digit; addresses and codes with dots of their own stay, but for their numbers.
      .replace(/(?<![\w.])(?=[\w-]*\d)[\w-]{8,}(?![\w.])/g, '…')
      .replace(/\b\d{1,3}(?:\.\d{1,3}){3}\b/g, '…')
      .replace(/\s+/g, ' ')
      .trim()
      .slice(0, LONGEST)
  );
}

export interface Failure {
  destination: string;
  reply: string | null;
  sends: number;
  lastAt: number;
}

/** Why sends failed, the most frequent reason first, with whose servers said it. */
export interface FailureReason {
  reason: string;
  sends: number;
  destinations: string[];
  lastAt: number;
}

const MOST_NAMED = 5;

export function groupFailures(failures: readonly Failure[]): FailureReason[] {
  const groups = new Map<string, { sends: number; lastAt: number; destinations: Map<string, number> }>();
  for (const { destination, reply, sends, lastAt } of failures) {
    const reason = reasonOf(reply ?? '') || 'no reply';
    const group = groups.get(reason) ?? { sends: 0, lastAt: 0, destinations: new Map<string, number>() };
    group.sends += sends;
    group.lastAt = Math.max(group.lastAt, lastAt);
    group.destinations.set(destination, (group.destinations.get(destination) ?? 0) + sends);
    groups.set(reason, group);
  }
  return [...groups]
    .map(([reason, { sends, lastAt, destinations }]) => ({
      reason,
      sends,
      lastAt,
      destinations: [...destinations]
        .sort(([, one], [, other]) => other - one)
        .slice(0, MOST_NAMED)
        .map(([name]) => name),
    }))
    .sort((one, other) => other.sends - one.sends);
}
