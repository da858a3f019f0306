import type { MessageSubject, Verdict } from '../vocabulary.ts';

/** What the subjects of a message are worth; they sum to 100. What proves who wrote it decides most. */
export const MESSAGE_WORTH: Record<MessageSubject, number> = {
  spf: 10,
  dkim: 14,
  dmarc: 16,
  reverse: 8,
  greeting: 4,
  tls: 4,
  'block-lists': 12,
  envelope: 4,
  fields: 8,
  parts: 5,
  links: 5,
  attachments: 5,
  list: 3,
  size: 2,
};

interface Coded {
  verdict: Verdict;
  /** Points of its subject; all faults of a subject together cost no more than it is worth. */
  costs: number;
}
const GOOD: Coded = { verdict: 'good', costs: 0 };
const weak = (costs: number): Coded => ({ verdict: 'weak', costs });
const wrong = (costs: number): Coded => ({ verdict: 'wrong', costs });
const missing = (costs: number): Coded => ({ verdict: 'missing', costs });
/** What can't be told costs nothing, and earns nothing. */
const UNKNOWN: Coded = { verdict: 'unknown', costs: 0 };

/** Every code that a finding about a message can have, by its subject. docs/findings.md has a line for each. */
export const MESSAGE_CODES = {
  spf: {
    'spf-pass': GOOD,
    'spf-none': missing(8),
    'spf-fail': wrong(10),
    'spf-softfail': weak(6),
    'spf-neutral': weak(5),
    'spf-permerror': wrong(10),
    'spf-unanswered': UNKNOWN,
  },
  dkim: {
    'dkim-pass': GOOD,
    'dkim-none': missing(14),
    'dkim-broken': wrong(14),
    'dkim-one-broken': weak(2),
    'dkim-weak-key': weak(3),
    'dkim-part-only': weak(4),
    'dkim-unanswered': UNKNOWN,
  },
  dmarc: {
    'dmarc-pass': GOOD,
    'dmarc-none': missing(10),
    'dmarc-fail': wrong(16),
    'dmarc-permerror': wrong(12),
    'dmarc-author': wrong(16),
    'dmarc-watching': weak(2),
    'dmarc-spf-alone': weak(3),
    'dmarc-unanswered': UNKNOWN,
  },
  reverse: {
    'reverse-good': GOOD,
    'reverse-none': missing(8),
    'reverse-not-back': wrong(6),
    'reverse-unanswered': UNKNOWN,
  },
  greeting: {
    'greeting-good': GOOD,
    'greeting-no-name': wrong(4),
    'greeting-nowhere': wrong(3),
    'greeting-elsewhere': weak(1),
    'greeting-unanswered': UNKNOWN,
  },
  tls: {
    'tls-used': GOOD,
    'tls-none': missing(4),
    'tls-unknown': UNKNOWN,
  },
  'block-lists': {
    'block-lists-good': GOOD,
    'block-lists-listed': wrong(12),
    'block-lists-none': UNKNOWN,
    'block-lists-unanswered': UNKNOWN,
  },
  envelope: {
    'envelope-good': GOOD,
    'envelope-no-way-back': wrong(4),
    'envelope-null': weak(1),
    'envelope-unanswered': UNKNOWN,
  },
  fields: {
    'fields-good': GOOD,
    'fields-from-missing': wrong(8),
    'fields-doubled': wrong(4),
    'fields-date-missing': missing(3),
    'fields-date-broken': wrong(2),
    'fields-date-far': weak(2),
    'fields-id-missing': missing(2),
    'fields-id-broken': weak(1),
    'fields-subject-missing': weak(1),
    'fields-to-missing': weak(1),
    'fields-name-is-address': wrong(4),
    'fields-false-answer': weak(1),
    'fields-eight-bit': weak(2),
  },
  parts: {
    'parts-good': GOOD,
    'parts-html-only': weak(2),
    'parts-differ': wrong(4),
    'parts-stub': weak(1),
    'parts-pictures': weak(3),
    'parts-empty': weak(3),
    'parts-broken': wrong(4),
    'parts-unversioned': weak(1),
    'parts-charset': weak(1),
    'parts-eight-bit': weak(1),
    'parts-long-line': wrong(3),
  },
  links: {
    'links-good': GOOD,
    'links-other-host': wrong(5),
    'links-address': wrong(4),
    'links-in-clear': weak(1),
  },
  attachments: {
    'attachments-good': GOOD,
    'attachments-program': wrong(5),
    'attachments-two-endings': wrong(5),
    'attachments-macros': weak(3),
    'attachments-archive': weak(1),
  },
  list: {
    'list-good': GOOD,
    'list-not': GOOD,
    'list-no-way-out': missing(3),
    'list-no-one-click': weak(2),
    'list-unsigned': weak(1),
  },
  size: {
    'size-good': GOOD,
    'size-html': weak(1),
    'size-large': weak(2),
  },
} as const satisfies Record<MessageSubject, Record<string, Coded>>;

export type MessageCode = { [Subject in MessageSubject]: keyof (typeof MESSAGE_CODES)[Subject] }[MessageSubject];
