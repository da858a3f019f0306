/** Problems by their codes: a title, and what the code means, for docs/problems.md and the problem’s own page. */
export const PROBLEM_TEXTS = {
  'bad-input': {
    title: 'Invalid value',
    means: 'A field, option or header has an invalid value. `field` names it; the remedy shows the form. Nothing was changed.',
  },
  'not-found': {
    title: 'Not found',
    means: 'The object does not exist on this server, or no longer does.',
  },
  'exists-already': {
    title: 'Already exists',
    means: 'An object of that name already exists. Use it, or choose another name.',
  },
  'in-use': {
    title: 'In use',
    means: 'Something else still needs it; the detail says what. Remove that first.',
  },
  'not-here': {
    title: 'Not kept here',
    means: 'Because of the domain’s role or twin, this is kept elsewhere.',
  },
  'not-set-up': {
    title: 'Not set up',
    means: 'A required setting is missing from the configuration; the remedy says which.',
  },
  'plan-full': {
    title: 'Plan limit reached',
    means: 'The domain has as many mailboxes as its plan allows. Choose a larger plan, or remove one.',
  },
  'not-signed-in': {
    title: 'Not signed in',
    means: 'The token or session is missing, revoked or expired. Sign in again.',
  },
  'sign-in-wrong': {
    title: 'Wrong name or password',
    means: 'The answer does not reveal which of the two.',
  },
  'sign-in-held': {
    title: 'Too many wrong sign-ins',
    means: 'From this address or for this account. `Retry-After` says when to try again.',
  },
  busy: {
    title: 'Server busy',
    means: 'Too many sign-ins are being checked. Try again in a few seconds.',
  },
  'csrf-token-missing': {
    title: 'Missing CSRF token',
    means: 'A change made with a console session must carry the session’s CSRF token. Scripts use API tokens instead.',
  },
  'too-large': {
    title: 'Too large',
    means: 'The request body is larger than 1 MB.',
  },
  'wrong-media-type': {
    title: 'Not JSON',
    means: 'The request body is not `application/json`.',
  },
  'too-many': {
    title: 'Too many',
    means: 'Too many live streams are open, or too many keys were used in a day. Close some, or wait.',
  },
  'no-space': {
    title: 'The disk is full',
    means: 'Nothing was changed. Free some space; the service then continues automatically.',
  },
  'no-such-call': {
    title: 'No such call',
    means: 'The method and path are not in `/api/v1/openapi.json`.',
  },
  'changed-meanwhile': {
    title: 'Changed in the meantime',
    means: 'The revision in If-Match is no longer current: the object has changed since you read it. Nothing was done.',
  },
  'key-taken': {
    title: 'Key already used',
    means: 'The Idempotency-Key was used for another request in the last 24 hours.',
  },
  'under-way': {
    title: 'Being worked on',
    means: 'The same request or the same work is in progress. Try again shortly.',
  },
  'outcome-unknown': {
    title: 'Result unknown',
    means: 'The same request was interrupted by an error or a restart. Check whether it took effect; if not, repeat it with a new key.',
  },
  'replaced-since': {
    title: 'Replaced since',
    means: 'The same request was already done with this Idempotency-Key; the secret it returned has been replaced or removed since.',
  },
  'name-server': {
    title: 'Name server refused',
    means: 'A name server did not answer, or refused an update. The detail has its reason.',
  },
  witness: {
    title: 'Witness failed',
    means: 'The witness did not answer, refused, or is another host; the detail has its answer.',
  },
  authority: {
    title: 'No certificate issued',
    means: 'The certificate authority did not answer, or refused. The detail has its reason; the order is retried automatically.',
  },
  fault: {
    title: 'Internal error',
    means: 'Try again. If it persists, report it with the service’s log.',
  },
} as const satisfies Record<string, { title: string; means: string }>;
