import type { MoveState, MoveStep, TransferState, Verdict } from '../vocabulary.ts';

/** The longest TTL of MX records with which a change is seen soon everywhere, in seconds. */
export const SHORT_TTL = 900;

/** A transfer that does a step, as far as it is. */
export interface Pass {
  id: number;
  state: TransferState;
  outcome: string;
  done: number;
  total: number;
  leftOut: number;
  /** Accounts that were not whole. */
  faults: number;
}

/** What was seen of the MX records last. */
export interface MxLook {
  at: number;
  /** As the zone's own name server gives it, in seconds; null where there is none or no answer. */
  ttl: number | null;
  /** Until when caches may hold an answer with a long TTL, ms; null when none was seen. */
  heldUntil: number | null;
  verdict: Verdict;
  headline: string;
  /** The records as they should be, and as they are. */
  expected: readonly string[];
  seen: readonly string[];
  /** Until when caches may still lead to the old server, ms. */
  waitsUntil: number | null;
}

/** The settings sheets of the mailboxes that move. */
export interface SheetsSent {
  of: number;
  sent: number;
  /** Of those: what did not arrive. */
  failed: readonly { address: string; why: string }[];
  /** Of those: still on their way. */
  waiting: number;
}

/** What the steps of a move are judged by. */
export interface MoveFacts {
  accounts: number;
  server: string;
  /** Addresses that have no mailbox here. */
  missing: readonly string[];
  passes: Partial<Record<MoveStep, Pass>>;
  mx: MxLook | null;
  /** When its mail began to stay here; null while it is passed on. */
  hereSince: number | null;
  sheets: SheetsSent;
  skipped: ReadonlySet<MoveStep>;
  quietHours: number;
  now: number;
}

/** A step of the path: how it stands, what is to be done, and who does it. */
export interface PathStep {
  step: MoveStep;
  state: MoveState;
  said: string;
  /** What a person has to do; empty when there is nothing. */
  advice: string;
  /** Until when it waits, ms. */
  until: number | null;
  /** Whether it is done by asking for it here. */
  isOurs: boolean;
}

type Own = Omit<PathStep, 'step' | 'isOurs'>;

const stands = (state: MoveState, said: string, advice = '', until: number | null = null): Own => ({ state, said, advice, until });
const plural = (number: number, one: string, more: string): string => `${number.toLocaleString('en')} ${number === 1 ? one : more}`;

/** Steps that somebody asks for; the others come about elsewhere, and are looked for. */
const OURS: readonly MoveStep[] = ['sign-in', 'mailboxes', 'first-pass', 'sheets', 'last-pass'];
/** What has to be done before a step is begun. */
const BEFORE: Record<MoveStep, readonly MoveStep[]> = {
  'sign-in': [],
  mailboxes: ['sign-in'],
  'first-pass': ['mailboxes'],
  'short-ttl': [],
  sheets: ['mailboxes'],
  mx: ['first-pass', 'short-ttl', 'sheets'],
  'last-pass': ['mx'],
};
/** What can be left out without losing anything but comfort. */
export const CAN_BE_SKIPPED: readonly MoveStep[] = ['first-pass', 'short-ttl', 'sheets'];

export const isBehind = ({ state }: PathStep): boolean => state === 'done' || state === 'skipped';

/** The whole path, in order: each step by what is known. Several may be next: what is done in DNS takes its time beside the others. */
export function movePath(facts: MoveFacts): PathStep[] {
  const path: PathStep[] = [];
  const behind = new Set<MoveStep>();
  for (const [step, look] of Object.entries(LOOKS) as [MoveStep, (facts: MoveFacts) => Own][]) {
    const found = look(facts);
    const own = facts.skipped.has(step) && found.state !== 'done' ? stands('skipped', 'Skipped.') : found;
    const isFree = BEFORE[step].every((one) => behind.has(one));
    const state = own.state === 'next' && !isFree ? 'later' : own.state;
    if (state === 'done' || state === 'skipped') behind.add(step);
    path.push({ step, ...own, state, isOurs: OURS.includes(step) });
  }
  return path;
}

/** Whether a step may be begun: what comes before it is behind. */
export function whatIsBefore(path: readonly PathStep[], step: MoveStep): PathStep | null {
  return path.find((one) => BEFORE[step].includes(one.step) && !isBehind(one)) ?? null;
}

/** How the whole stands: the step that matters most now. */
export function leadingStep(path: readonly PathStep[]): PathStep | null {
  const order: readonly MoveState[] = ['wrong', 'next', 'under-way', 'waiting'];
  for (const state of order) {
    const found = path.find((one) => one.state === state);
    if (found) return found;
  }
  return path.find((one) => !isBehind(one)) ?? null;
}

const LOOKS: Record<MoveStep, (facts: MoveFacts) => Own> = {
  'sign-in': ({ passes, accounts, server }) =>
    passOf(
      passes['sign-in'],
      stands('next', `${plural(accounts, 'account', 'accounts')} of ${server}: test each sign-in, and count the mail.`),
      false,
    ),
  mailboxes: ({ missing, accounts }) =>
    missing.length === 0
      ? stands('done', `${plural(accounts, 'mailbox is', 'mailboxes are')} here.`)
      : stands(
          'next',
          `Not here yet: ${some(missing)}.`,
          'They are created with their passwords from the old server, where known and strong enough; a hundred at a time.',
        ),
  'first-pass': ({ passes }) =>
    passOf(passes['first-pass'], stands('next', 'Copies all mail from the old server while users keep working there.'), true),
  'short-ttl': shortTtl,
  sheets: sheets,
  mx: mxChanged,
  'last-pass': ({ passes, quietHours }) =>
    passOf(
      passes['last-pass'],
      stands(
        'next',
        `Copies mail that has arrived at the old server since, until nothing has arrived for ${plural(quietHours, 'hour', 'hours')}.`,
        'Starts automatically when the MX records point here everywhere.',
      ),
      true,
    ),
};

const some = (names: readonly string[]): string =>
  names.length > 5 ? `${names.slice(0, 5).join(', ')} and ${plural(names.length - 5, 'other', 'others')}` : names.join(', ');

function passOf(pass: Pass | undefined, before: Own, leavesOut: boolean): Own {
  if (!pass) return before;
  const show = `See: tenedor transfer show ${pass.id}`;
  switch (pass.state) {
    case 'under-way':
      return stands(
        'under-way',
        pass.total > 0 ? `${pass.done.toLocaleString('en')} of ${plural(pass.total, 'message', 'messages')} so far.` : 'It has begun.',
      );
    case 'done':
      return stands('done', pass.outcome);
    case 'stopped':
      return stands('wrong', pass.outcome, 'Go on with it.');
    default:
      // What this server can't take will not come another time either.
      if (leavesOut && pass.faults === 0 && pass.state === 'partly')
        return stands('done', pass.outcome, `See what was left out: tenedor transfer show ${pass.id}`);
      return stands('wrong', pass.outcome, `Fix that, and continue. ${show}`);
  }
}

const secondsWords = (seconds: number): string =>
  seconds < 120 ? `${seconds} s` : seconds < 7200 ? `${Math.round(seconds / 60)} minutes` : `${Math.round(seconds / 3600)} hours`;

function shortTtl({ mx, now, hereSince }: MoveFacts): Own {
  if (hereSince !== null) return stands('done', 'The MX records have been changed.');
  if (mx === null) return stands('next', 'Not checked yet.', 'Check: tenedor move-plan check DOMAIN');
  if (mx.ttl === null) return stands('next', 'Its MX records cannot be looked up at the moment.', mx.headline);
  const seen = `Its MX records may be kept for ${secondsWords(mx.ttl)}`;
  if (mx.ttl > SHORT_TTL)
    return stands(
      'next',
      `${seen}: after the change, mail would go to the old server for this long.`,
      'In its DNS, set the TTL of the MX records to 300, and change nothing else.',
    );
  if (mx.heldUntil !== null && mx.heldUntil > now)
    return stands(
      'waiting',
      `${seen} now. Caches may hold what they read before for ${secondsWords(Math.ceil((mx.heldUntil - now) / 1000))} more.`,
      '',
      mx.heldUntil,
    );
  return stands('done', `${seen}.`);
}

function sheets({ sheets: { of, sent, failed, waiting } }: MoveFacts): Own {
  if (sent === 0)
    return stands(
      'next',
      `${plural(of, 'person is', 'people are')} sent their client settings by mail.`,
      'Until the MX records change, they read mail at the old server.',
    );
  const first = failed[0];
  if (first)
    return stands(
      'wrong',
      `${first.address}: ${first.why}${failed.length > 1 ? `; so with ${plural(failed.length - 1, 'other', 'others')}` : ''}.`,
      'Send them again, or hand them over another way and skip the step.',
    );
  if (sent < of) return stands('next', `${sent} of ${of} were sent.`, 'Send the others.');
  if (waiting > 0) return stands('under-way', `${plural(waiting, 'is', 'are')} still on the way.`);
  return stands('done', `${plural(sent, 'sheet has', 'sheets have')} arrived.`);
}

function mxChanged({ mx, hereSince }: MoveFacts): Own {
  if (mx === null) return stands('next', 'Not checked yet.', 'Check: tenedor move-plan check DOMAIN');
  switch (mx.verdict) {
    case 'good':
    case 'weak':
      return hereSince === null
        ? stands('under-way', 'They point here; its mail will stay here in a moment.')
        : stands('done', mx.headline);
    case 'waiting':
      return stands(
        'waiting',
        'They point here. Caches may still point to the old server; its mail already stays here.',
        '',
        mx.waitsUntil,
      );
    case 'unknown':
      return stands('waiting', `No answer from DNS: ${mx.headline}`);
    default:
      return hereSince === null
        ? stands('next', `${mx.headline} Until they point here, mail that arrives here is passed on to the old server.`, typing(mx))
        : stands('wrong', mx.headline, `${typing(mx)} Or pass its mail on to the old server again: undo this step.`);
  }
}

const quoted = (records: readonly string[]): string => records.map((one) => `“MX ${one}”`).join(' and ');
const typing = ({ expected, seen }: MxLook): string =>
  `In its DNS, ${seen.length > 0 ? `replace ${quoted(seen)} by` : 'add'} ${quoted(expected)}.`;
