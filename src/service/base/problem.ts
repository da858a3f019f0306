/** Every problem that a use case, and so the API, can have: docs/problems.md has the same table. */
export const PROBLEMS = {
  'bad-input': {
    status: 422,
    title: 'Invalid value',
    means: 'A field, option or header has an invalid value. `field` names it; the remedy shows the form. Nothing was changed.',
  },
  'not-found': {
    status: 404,
    title: 'Not here',
    means: 'The object does not exist on this server, or no longer does.',
  },
  'exists-already': {
    status: 409,
    title: 'It exists already',
    means: 'An object of that name already exists. Use it, or choose another name.',
  },
  'in-use': {
    status: 409,
    title: 'In use',
    means: 'Something else still needs it; the detail says what. Remove that first.',
  },
  'not-here': {
    status: 409,
    title: 'Not kept here',
    means: 'Because of the domain’s role or twin, this is kept elsewhere.',
  },
  'not-set-up': {
    status: 409,
    title: 'Not set up',
    means: 'A required setting is missing from the configuration; the remedy says which.',
  },
  'plan-full': {
    status: 409,
    title: 'Plan limit reached',
    means: 'The domain has as many mailboxes as its plan allows. Choose a larger plan, or remove one.',
  },
  'not-signed-in': {
    status: 401,
    title: 'Not signed in',
    means: 'The token or session is missing, revoked or expired. Sign in again.',
  },
  'sign-in-wrong': {
    status: 401,
    title: 'Wrong name or password',
    means: 'The answer does not reveal which of the two.',
  },
  'sign-in-held': {
    status: 429,
    title: 'Too many wrong sign-ins',
    means: 'From this address or for this account. `Retry-After` says when to try again.',
  },
  busy: {
    status: 503,
    title: 'Server busy',
    means: 'Too many sign-ins are being checked. Try again in a few seconds.',
  },
  'csrf-token-missing': {
    status: 403,
    title: 'Missing CSRF token',
    means: 'A change made with a console session must carry the session’s CSRF token. Scripts use API tokens instead.',
  },
  'too-large': {
    status: 413,
    title: 'Too large',
    means: 'The request body is larger than 1 MB.',
  },
  'wrong-media-type': {
    status: 415,
    title: 'Not JSON',
    means: 'The request body is not `application/json`.',
  },
  'too-many': {
    status: 429,
    title: 'Too many',
    means: 'Too many live streams are open, or too many keys were used in a day. Close some, or wait.',
  },
  'no-space': {
    status: 507,
    title: 'The disk is full',
    means: 'Nothing was changed. Free some space; the service then continues automatically.',
  },
  'no-such-call': {
    status: 404,
    title: 'No such call',
    means: 'The method and path are not in `/api/v1/openapi.json`.',
  },
  'changed-meanwhile': {
    status: 412,
    title: 'Changed in the meantime',
    means: 'The revision in If-Match is no longer current: the object has changed since you read it. Nothing was done.',
  },
  'key-taken': {
    status: 422,
    title: 'Key already used',
    means: 'The Idempotency-Key was used for another request in the last 24 hours.',
  },
  'under-way': {
    status: 409,
    title: 'Being worked on',
    means: 'The same request or the same work is in progress. Try again shortly.',
  },
  'outcome-unknown': {
    status: 409,
    title: 'Result unknown',
    means: 'The same request was interrupted by an error or a restart. Check whether it took effect; if not, repeat it with a new key.',
  },
  'replaced-since': {
    status: 409,
    title: 'Replaced since',
    means: 'The same request was already done with this Idempotency-Key; the secret it returned has been replaced or removed since.',
  },
  'name-server': {
    status: 502,
    title: 'Name server refused',
    means: 'A name server did not answer, or refused an update. The detail has its reason.',
  },
  witness: {
    status: 502,
    title: 'Witness failed',
    means: 'The witness did not answer, refused, or is another host; the detail has its answer.',
  },
  authority: {
    status: 502,
    title: 'No certificate issued',
    means: 'The certificate authority did not answer, or refused. The detail has its reason; the order is retried automatically.',
  },
  fault: {
    status: 500,
    title: 'Internal error',
    means: 'Try again. If it persists, report it with the service’s log.',
  },
} as const satisfies Record<string, { status: number; title: string; means: string }>;

export type ProblemCode = keyof typeof PROBLEMS;

/** What came from outside may stand in a problem's words; nothing of it steers a terminal. */
const shown = (text: string): string => text.replace(/\p{Cc}/gu, '�');

/** A use case that says no: what is wrong, what to do, and for input the field. API, command line and console all show this one. */
export class Problem extends Error {
  readonly status: number;
  readonly detail: string;
  readonly remedy: string;

  constructor(
    readonly code: ProblemCode,
    detail: string,
    remedy: string,
    public field: string | null = null,
    /** When asking again may help, in seconds from now. */
    readonly retryAfter: number | null = null,
  ) {
    super(detail);
    this.detail = shown(detail);
    this.remedy = shown(remedy);
    this.status = PROBLEMS[code].status;
  }

  /** What was asked for; the call that knows where it stood in the request finds the field. */
  subject: string | null = null;
  about(subject: string): this {
    this.subject = subject;
    return this;
  }
}

export const badInput = (field: string, detail: string, remedy: string): Problem => new Problem('bad-input', detail, remedy, field);

/** What a mistake of our own says of itself, for the log. */
export const faultText = (error: unknown): string => String((error as Error | null)?.stack ?? error);

/** A secret that counts no more is not shown as if it did. */
export const replacedSince = (what: string): Problem =>
  new Problem(
    'replaced-since',
    `This request was done before; since then ${what} has been replaced or removed.`,
    'If you need another one, request it with a new key.',
  );
