export type ProblemCode =
  | 'bad-input'
  | 'not-found'
  | 'exists-already'
  | 'in-use'
  | 'not-yet'
  | 'plan-full'
  | 'not-signed-in'
  | 'sign-in-wrong'
  | 'sign-in-held'
  | 'busy'
  | 'guard-missing'
  | 'too-large'
  | 'wrong-media-type'
  | 'too-many'
  | 'no-space'
  | 'no-such-call'
  | 'name-server'
  | 'fault';

const STATUS: Record<ProblemCode, number> = {
  'bad-input': 422,
  'not-found': 404,
  'exists-already': 409,
  'in-use': 409,
  'not-yet': 409,
  'plan-full': 409,
  'not-signed-in': 401,
  'sign-in-wrong': 401,
  'sign-in-held': 429,
  busy: 503,
  'guard-missing': 403,
  'too-large': 413,
  'wrong-media-type': 415,
  'too-many': 429,
  'no-space': 507,
  'no-such-call': 404,
  'name-server': 502,
  fault: 500,
};

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
    readonly field: string | null = null,
    /** When asking again may help, in seconds from now. */
    readonly retryAfter: number | null = null,
  ) {
    super(detail);
    this.detail = shown(detail);
    this.remedy = shown(remedy);
    this.status = STATUS[code];
  }
}

export const badInput = (field: string, detail: string, remedy: string): Problem => new Problem('bad-input', detail, remedy, field);

/** What a mistake of our own says of itself, for the log. */
export const faultText = (error: unknown): string => String((error as Error | null)?.stack ?? error);
