/** Every problem that a use case, and so the API, can have: docs/problems.md has the same table. */
export const PROBLEMS = {
  'bad-input': {
    status: 422,
    title: 'A value that can’t be',
    means:
      'A field, option or header has a value that can’t be taken; `field` names it, and the remedy says how to write it. Nothing was changed.',
  },
  'not-found': {
    status: 404,
    title: 'Not here',
    means: 'What the call is about is not on this server, or not any more.',
  },
  'exists-already': {
    status: 409,
    title: 'It exists already',
    means: 'Something of that name is here already. Use it, or choose another name.',
  },
  'in-use': {
    status: 409,
    title: 'In use',
    means: 'Something else still needs it; the detail says what. Take that away first.',
  },
  'not-here': {
    status: 409,
    title: 'Not kept here',
    means: 'The domain’s role, or its twin, means that this is kept elsewhere.',
  },
  'not-set-up': {
    status: 409,
    title: 'Not set up',
    means: 'The configuration of this host lacks what that needs; the remedy says what.',
  },
  'plan-full': {
    status: 409,
    title: 'The plan is used up',
    means: 'The domain has as many mailboxes as its plan allows. Give it a larger plan, or remove one.',
  },
  'not-signed-in': {
    status: 401,
    title: 'Not signed in',
    means: 'The token or session is missing, revoked or over. Sign in again.',
  },
  'sign-in-wrong': {
    status: 401,
    title: 'Name or password is wrong',
    means: 'Which of the two is not said.',
  },
  'sign-in-held': {
    status: 429,
    title: 'Too many wrong sign-ins',
    means: 'From that address or for that account. `Retry-After` says when to try again.',
  },
  busy: {
    status: 503,
    title: 'Too much at once',
    means: 'So many sign-ins are being checked that no more are taken. Try again in a few seconds.',
  },
  'csrf-token-missing': {
    status: 403,
    title: 'Not from the console’s own pages',
    means: 'A change under a session must carry the session’s CSRF token, so that no other site can send it. Programs use tokens.',
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
    means: 'Nothing was changed. Make room; the service goes on by itself.',
  },
  'no-such-call': {
    status: 404,
    title: 'No such call',
    means: 'The method and path are not in `/api/v1/openapi.json`.',
  },
  'changed-meanwhile': {
    status: 412,
    title: 'Changed in the meantime',
    means: 'The revision in If-Match is no longer the current one: somebody has changed it since you looked. Nothing was done.',
  },
  'key-taken': {
    status: 422,
    title: 'The key was used for something else',
    means: 'The Idempotency-Key has been used for another request in the last 24 hours.',
  },
  'under-way': {
    status: 409,
    title: 'Being worked on',
    means: 'The same request, with the same Idempotency-Key, or the same work is being done at this moment. Ask again shortly.',
  },
  'outcome-unknown': {
    status: 409,
    title: 'The outcome is not known',
    means:
      'The same request was cut short by a fault or a stop of the service. Look whether it was done; if not, make it again with a new key.',
  },
  'replaced-since': {
    status: 409,
    title: 'Replaced since',
    means:
      'The same request, with the same Idempotency-Key, was done before; the secret that it was answered with has been replaced or removed since.',
  },
  'name-server': {
    status: 502,
    title: 'The name server said no',
    means: 'A name server did not answer, or refused an update. The detail has its words.',
  },
  witness: {
    status: 502,
    title: 'The witness did not do it',
    means: 'The other host that was to rehearse did not answer, or said no, or is another one; the detail has what it said.',
  },
  authority: {
    status: 502,
    title: 'The authority gave no certificate',
    means: 'The authority for certificates did not answer, or said no. The detail has its reason; it is asked again later by itself.',
  },
  fault: {
    status: 500,
    title: 'A mistake of the service',
    means: 'The log says more. Try again; if it stays, report it with the log.',
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
    'If you need another one, make it with a new key.',
  );
