import type { RehearsalWay } from '../../core/rehearsal/rehearsal.ts';
import { findJourney, listRecipients, type Recipient } from '../../store/journeys.ts';
import { storedOfJourney } from '../../store/messages.ts';
import { operate } from '../mailbox/operate.ts';
import type { RehearsalDeps } from './deps.ts';
import { Way } from './rehearsal-steps.ts';

/** As long as somebody waits for a first attempt. */
const LONGEST_MS = 30_000;

/** The journey that a step says was begun: our own server ends a message with its id. */
export const journeyIn = (ways: readonly RehearsalWay[]): string | null =>
  ways
    .flatMap((way) => way.steps)
    .filter((step) => step.key === 'message' || step.key === 'submit')
    .flatMap((step) => step.said)
    .map((line) => /Accepted as ([a-z0-9]{12})/.exec(line.text)?.[1] ?? null)
    .find((id) => id !== null) ?? null;

/** Follows a message by its journey: to where it came, from where it is taken away again; or out of the house, to the first outcome of each recipient. */
export async function followMessage(context: RehearsalDeps, journeyId: string): Promise<RehearsalWay> {
  const { db } = context;
  const way = new Way('The message');
  let recipients: readonly Recipient[] = [];
  await way.step('outcome', 'is followed by its journey', null, async () => {
    recipients = await outcomes(context, journeyId);
    const bad = recipients.find((one) => one.state === 'failed' || one.state === 'delayed' || one.state === 'queued');
    const seen = recipients
      .map((one) => `${one.address}: ${one.held === null ? one.state : `held (${one.held})`}${one.reply === null ? '' : `, ${one.reply}`}`)
      .join('; ');
    if (bad) return { state: 'failed', seen, action: `Follow it: tenedor journey ${journeyId}`, journeyId };
    return { seen: `${seen} (tenedor journey ${journeyId})`, journeyId };
  });
  if (recipients.some((one) => one.state === 'delivered'))
    await way.step('remove', 'is taken away again', null, async () => {
      const file = findJourney(db, journeyId)?.file ?? null;
      const stored = file === null ? [] : storedOfJourney(db, file, journeyId);
      for (const { id, mailboxId } of stored) await operate(context, mailboxId, { kind: 'remove', ids: [id] });
      return { seen: stored.length === 1 ? 'nothing of it is left in the mailbox' : `nothing of it is left in ${stored.length} mailboxes` };
    });
  return way;
}

/** Waits until each recipient has an outcome or is held, or it takes too long. */
async function outcomes({ db, signals }: RehearsalDeps, journeyId: string): Promise<Recipient[]> {
  const read = (): Recipient[] => listRecipients(db, journeyId);
  const isOver = (): boolean => read().every((one) => one.state !== 'queued' || one.held !== null);
  if (!isOver())
    await new Promise<void>((resolve) => {
      const end = (): void => {
        clearTimeout(timer);
        signals.off('attempted', look);
        resolve();
      };
      const look = (id: string): void => {
        if (id === journeyId && isOver()) end();
      };
      const timer = setTimeout(end, LONGEST_MS);
      signals.on('attempted', look);
    });
  return read();
}
