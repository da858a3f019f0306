import type { TransferKind, TransferState } from '../../core/vocabulary.ts';
import type { TransferMailbox } from '../../store/transfers.ts';
import { count } from '../directory/removals.ts';

const DONE: Record<TransferKind, string> = { recover: 'restored', import: 'copied', export: 'written' };

/** What came of a transfer, in one sentence or two. */
export function outcomeOf(
  kind: TransferKind,
  mailboxes: readonly TransferMailbox[],
  { fault, said, isStopped, isTrial = false }: { fault: string | null; said: string | null; isStopped: boolean; isTrial?: boolean },
): { state: TransferState; outcome: string } {
  const sum = (what: 'taken' | 'known' | 'leftOut'): number => mailboxes.reduce((total, one) => total + one[what], 0);
  const faulty = mailboxes.filter((one) => one.fault !== null);
  const [leftOut, known] = [sum('leftOut'), sum('known')];
  const there = mailboxes.reduce((total, one) => total + one.total, 0);
  const counted = `${count(mailboxes.length - faulty.length, 'account signs', 'accounts sign')} in; ${count(there, 'message')} there; nothing was copied (trial run)`;
  const carried = [
    `${count(sum('taken'), 'message')} ${DONE[kind]}${mailboxes.length > 1 ? ` in ${mailboxes.length} mailboxes` : ''}`,
    ...(known > 0 ? [`${known} already there`] : []),
    ...(leftOut > 0 ? [`${leftOut} left out`] : []),
  ].join(', ');
  const numbers = isTrial ? counted : carried;
  const [first, ...more] = faulty;
  const faults = first
    ? ` ${first.address}: ${first.fault}${more.length > 0 ? ` The same for ${count(more.length, 'other', 'others')}.` : ''}`
    : '';
  if (isStopped) return { state: 'stopped', outcome: `It was stopped: ${numbers}.` };
  if (fault !== null) return { state: 'failed', outcome: `${fault} ${numbers}.` };
  const isWhole = leftOut === 0 && !first;
  const state = isWhole ? 'done' : (isTrial ? faulty.length === mailboxes.length : sum('taken') + known === 0) ? 'failed' : 'partly';
  return { state, outcome: `${numbers}.${faults}${said === null ? '' : ` ${said}`}` };
}
