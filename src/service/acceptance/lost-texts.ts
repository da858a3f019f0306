import { addEntry, findJourney } from '../../store/journeys.ts';
import { addLost } from '../../store/lost-texts.ts';
import type { TextLost } from '../../store/message-files.ts';
import type { AcceptanceDeps } from './deps.ts';

/** Journals that a text is not whole, once for each text; it stays on the overview until it is restored or not needed any more. */
export async function noteLost(
  { db, clock, log }: AcceptanceDeps,
  { text: file, how }: TextLost,
  { mailboxId, journeyId }: { mailboxId: number | null; journeyId: string | null },
): Promise<void> {
  log.error({ file, how, journey: journeyId, mailboxId }, 'the text of a message is damaged');
  await db.commit(() => {
    if (!addLost(db, { file, how, journeyId: journeyId ?? '', at: clock.now() })) return;
    const domain = (journeyId === null ? null : findJourney(db, journeyId)?.domain) ?? null;
    addEntry(db, { at: clock.now(), journeyId, domain, event: 'text-lost', data: { file, how } });
  });
}
