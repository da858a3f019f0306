import type { DkimOutcome } from '../dkim/verify.ts';
import { firstField } from '../mime/header.ts';
import type { Contents } from './contents.ts';
import { type MessageDraft, type MessageFinding, messageFindings } from './finding.ts';

const MARKS = ['list-id', 'list-unsubscribe', 'list-unsubscribe-post', 'list-post', 'list-help', 'feedback-id'];

/** How those get out who are one of many. */
export interface ListFields {
  unsubscribe: string | null;
  post: string | null;
}

/** Whether a message looks like one of many. */
export const isToMany = ({ root: { fields }, html }: Contents): boolean =>
  MARKS.some((name) => firstField(fields, name) !== null) ||
  /^(bulk|list)$/i.test(firstField(fields, 'precedence') ?? '') ||
  (html?.links ?? []).some(({ text, href }) => /unsubscri|opt-?out/i.test(`${text} ${href}`));

/** Whether mail to many lets people out of it (RFC 2369 §3.2, RFC 8058). */
export const listFindings = (list: ListFields | null, dkim: readonly DkimOutcome[]): MessageFinding[] =>
  messageFindings('list', list ? wayOut(list, dkim) : [{ code: 'list-not', headline: 'It does not look like bulk mail.' }]);

function wayOut({ unsubscribe: list, post }: ListFields, dkim: readonly DkimOutcome[]): MessageDraft<'list'>[] {
  if (list === null || !/<[^<>]+>/.test(list))
    return [
      {
        code: 'list-no-way-out',
        headline: 'It looks like bulk mail and has no List-Unsubscribe.',
        seen: list === null ? [] : [list],
        remedy: 'Add List-Unsubscribe: <https://…>, and List-Unsubscribe-Post: List-Unsubscribe=One-Click',
      },
    ];
  if (!/<https:[^<>]+>/i.test(list) || post?.replace(/\s/g, '').toLowerCase() !== 'list-unsubscribe=one-click')
    return [
      {
        code: 'list-no-one-click',
        headline: 'Unsubscribing takes more than one click.',
        seen: [list, ...(post === null ? [] : [post])],
        remedy: 'Give an https address in List-Unsubscribe, and add List-Unsubscribe-Post: List-Unsubscribe=One-Click',
      },
    ];
  const isSigned = dkim.some(
    (one) => one.result === 'pass' && ['list-unsubscribe', 'list-unsubscribe-post'].every((name) => one.covers.includes(name)),
  );
  if (!isSigned)
    return [
      {
        code: 'list-unsigned',
        headline: 'No valid signature covers the two fields.',
        seen: [list],
        remedy: 'Sign List-Unsubscribe and List-Unsubscribe-Post (h=).',
      },
    ];
  return [{ code: 'list-good', headline: 'It can be unsubscribed from with one click.', seen: [list] }];
}
