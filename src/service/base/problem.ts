/** Every problem that a use case, and so the API, can have, with its status: docs/problems.md has the same table. */
export const PROBLEMS = {
  'bad-input': 422,
  'not-found': 404,
  'exists-already': 409,
  'in-use': 409,
  'not-here': 409,
  'not-set-up': 409,
  'plan-full': 409,
  'not-signed-in': 401,
  'sign-in-wrong': 401,
  'sign-in-held': 429,
  busy: 503,
  'csrf-token-missing': 403,
  'too-large': 413,
  'wrong-media-type': 415,
  'too-many': 429,
  'no-space': 507,
  'no-such-call': 404,
  'changed-meanwhile': 412,
  'key-taken': 422,
  'under-way': 409,
  'outcome-unknown': 409,
  'replaced-since': 409,
  'name-server': 502,
  witness: 502,
  authority: 502,
  fault: 500,
} as const satisfies Record<string, number>;

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
    this.status = PROBLEMS[code];
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
