import { type Fields, startOf, type ValuesOf } from './fields.ts';

const GIB = 1024 ** 3;

/** What of a plan can be set besides its name and its limits. */
export const PLAN_FIELDS = {
  whenFull: {
    kind: 'choice',
    of: ['refuse', 'hold'],
    label: 'When a limit is full',
    option: '--when-full <what>',
    help: 'what happens when a limit is reached',
    start: 'refuse',
  },
  holdMost: {
    kind: 'count',
    most: 100_000,
    isNeeded: true,
    label: 'Most waiting recipients',
    option: '--hold-most <recipients>',
    help: 'most recipients that may wait',
    start: 500,
  },
  holdHours: {
    kind: 'count',
    most: 120,
    isNeeded: true,
    label: 'Longest wait in hours',
    option: '--hold-hours <hours>',
    help: 'longest wait in hours',
    start: 24,
  },
  unusual: {
    kind: 'choice',
    of: ['off', 'flag', 'stop'],
    label: 'Unusual sending',
    about: 'When a mailbox sends far more than usual',
    option: '--unusual <what>',
    help: 'when a mailbox sends far more than usual',
    start: 'flag',
  },
  brakeShare: {
    kind: 'count',
    most: 100,
    label: 'Brake at % of failures',
    hint: 'Empty: no brake',
    about: 'Percent of final failures within an hour that set the brake; null for never',
    start: 40,
  },
  brakeLeast: {
    kind: 'count',
    most: 100_000,
    isNeeded: true,
    label: 'But not before',
    hint: 'Minimum sends in an hour',
    about: 'Of how many ended sends at least',
    start: 20,
  },
  indexTexts: {
    kind: 'yes-no',
    label: 'Index message text, for quick searches in large folders',
    about: 'Whether searches in the texts of large folders go by an index, beside those in subjects and addresses',
    option: '--index-texts <whether>',
    help: 'whether message text is indexed, for quick searches in large folders',
    start: false,
  },
  quotaBytes: {
    kind: 'size',
    unit: 'GiB',
    least: 1024 ** 2,
    most: 1024 * GIB,
    isNeeded: true,
    label: 'Quota of a mailbox, GiB',
    option: '--quota <size>',
    help: 'quota of a mailbox, like 2G',
    start: GIB,
  },
  mostMailboxes: {
    kind: 'count',
    most: 100_000,
    isNeeded: true,
    label: 'Mailboxes a domain',
    option: '--mailboxes <number>',
    help: 'mailboxes per domain',
    start: 25,
  },
} as const satisfies Fields;

export type PlanSettings = ValuesOf<typeof PLAN_FIELDS>;
export const NEW_PLAN: PlanSettings = startOf(PLAN_FIELDS);
