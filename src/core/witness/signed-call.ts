import { createHash, type KeyObject, sign, verify } from 'node:crypto';

/** A call of one host to another, signed by HTTP Message Signatures (RFC 9421 §3.3.6) over Content-Digest (RFC 9530). */
export interface SignedCall {
  path: string;
  body: string;
  /** Who asks, and who is asked: what is meant for one is nothing to another. */
  from: string;
  to: string;
  /** Seconds since 1970. */
  created: number;
  /** Never the same again. */
  nonce: string;
}

const digestOf = (body: string): string => `sha-256=:${createHash('sha256').update(body).digest('base64')}:`;
const parametersOf = (fields: string, { created, nonce, from, to }: Pick<SignedCall, 'created' | 'nonce' | 'from' | 'to'>): string =>
  `(${fields});created=${created};nonce="${nonce}";keyid="${from}";alg="ed25519";tag="${to}"`;
const CALL_FIELDS = '"@method" "@path" "content-digest"';
const ANSWER_FIELDS = '"@status" "content-digest"';

const callBase = (path: string, digest: string, parameters: string): Buffer =>
  Buffer.from(['"@method": POST', `"@path": ${path}`, `"content-digest": ${digest}`, `"@signature-params": ${parameters}`].join('\n'));
const answerBase = (digest: string, parameters: string): Buffer =>
  Buffer.from(['"@status": 200', `"content-digest": ${digest}`, `"@signature-params": ${parameters}`].join('\n'));

type Headers = Record<string, string>;
const headersOf = (digest: string, parameters: string, base: Buffer, key: KeyObject): Headers => ({
  'content-type': 'application/json',
  'content-digest': digest,
  'signature-input': `tenedor=${parameters}`,
  signature: `tenedor=:${sign(null, base, key).toString('base64')}:`,
});

/** The header fields of a call. */
export function signCall(call: SignedCall, key: KeyObject): Headers {
  const [digest, parameters] = [digestOf(call.body), parametersOf(CALL_FIELDS, call)];
  return headersOf(digest, parameters, callBase(call.path, digest, parameters), key);
}

/** The header fields of the answer 200 to a call. */
export function signAnswer(body: string, call: Pick<SignedCall, 'created' | 'nonce' | 'from' | 'to'>, key: KeyObject): Headers {
  const [digest, parameters] = [digestOf(body), parametersOf(ANSWER_FIELDS, { ...call, from: call.to, to: call.from })];
  return headersOf(digest, parameters, answerBase(digest, parameters), key);
}

const FORM =
  /^tenedor=\(([^()]{1,60})\);created=(\d{1,12});nonce="([\w-]{16,64})";keyid="([a-z0-9.-]{1,253})";alg="ed25519";tag="([a-z0-9.-]{1,253})"$/;

/** Who has made a call, as it says itself: nothing of it counts before `isSignedCall`. Null for what is no such call. */
export function readCall(given: Partial<Headers>, path: string, body: string): SignedCall | null {
  const found = FORM.exec(given['signature-input'] ?? '');
  const [, fields, created = '', nonce = '', from = '', to = ''] = found ?? [];
  if (fields !== CALL_FIELDS || given['content-digest'] !== digestOf(body)) return null;
  return { path, body, from, to, created: Number(created), nonce };
}

export function isSignedCall(call: SignedCall, given: Partial<Headers>, key: KeyObject): boolean {
  return holds(given, callBase(call.path, digestOf(call.body), parametersOf(CALL_FIELDS, call)), key);
}

/** Whether that is the answer of who was asked, to that very call. */
export function isSignedAnswer(body: string, call: SignedCall, given: Partial<Headers>, key: KeyObject): boolean {
  const parameters = parametersOf(ANSWER_FIELDS, { ...call, from: call.to, to: call.from });
  return given['content-digest'] === digestOf(body) && holds(given, answerBase(digestOf(body), parameters), key);
}

function holds(given: Partial<Headers>, base: Buffer, key: KeyObject): boolean {
  const [, text = ''] = /^tenedor=:([A-Za-z0-9+/=]{1,200}):$/.exec(given.signature ?? '') ?? [];
  return verify(null, base, key, Buffer.from(text, 'base64'));
}
