import { lookup } from 'node:dns';
import { type IncomingMessage, request as requestHttp } from 'node:http';
import { request as requestHttps } from 'node:https';
import type { LookupFunction } from 'node:net';
import { rootCertificates } from 'node:tls';
import { isIpAddress } from '../core/address/ip-address.ts';
import { isOwnMachine } from '../core/address/reach.ts';
import type { AskOut, CallOut } from '../service/base/ports.ts';

const TIMEOUT_MS = 10_000;
const INWARD = 'the address is of this machine itself, which the configuration does not allow (outgoing.to_this_machine)';

/** Finds a name's addresses, and lets through only those outside: the check and the connection see the same answer. */
const outward: LookupFunction = (name, options, done) =>
  lookup(name, { ...options, all: true }, (error, addresses) => {
    const outside = (addresses ?? []).filter(({ address }) => !isOwnMachine(address));
    const [first] = outside;
    if (error) done(error, '');
    else if (!first) done(new Error(INWARD), '');
    else if (options.all) done(null, outside);
    else done(null, first.address, first.family);
  });

/** Posts one signed call. Redirects are not followed: the signature is for one address. */
export const callOut =
  (toThisMachine: boolean): CallOut =>
  (url, headers, body) =>
    new Promise((resolve) => {
      post({ url, headers, body, toThisMachine, timeoutMs: TIMEOUT_MS, roots: undefined }, (answer) => {
        if (typeof answer === 'string') return resolve({ status: null, reason: answer });
        resolve({ status: answer.statusCode ?? null, reason: answer.statusMessage ?? '' });
        // What it says is of no interest.
        answer.destroy();
      });
    });

/** As long as a rehearsal may take. */
const ANSWER_MS = 120_000;
const LARGEST_ANSWER = 2 * 1024 * 1024;

/** Posts a call, and reads what comes back. Authorities are those of the system, and of `roots` as PEM. */
export const askOut =
  (toThisMachine: boolean, roots: string | null): AskOut =>
  (url, headers, body) =>
    new Promise((resolve) => {
      const asked = {
        url,
        headers,
        body,
        toThisMachine,
        timeoutMs: ANSWER_MS,
        roots: roots === null ? undefined : [...rootCertificates, roots],
      };
      post(asked, (answer) => {
        if (typeof answer === 'string') return resolve({ kind: 'failed', reason: answer });
        const pieces: Buffer[] = [];
        let size = 0;
        answer.on('data', (piece: Buffer) => {
          size += piece.length;
          pieces.push(piece);
          if (size > LARGEST_ANSWER) answer.destroy(new Error('the answer is too long'));
        });
        answer.on('error', (error) => resolve({ kind: 'failed', reason: error.message }));
        answer.on('end', () =>
          resolve({
            kind: 'answered',
            status: answer.statusCode ?? 0,
            headers: Object.fromEntries(Object.entries(answer.headers).map(([name, value]) => [name, String(value)])),
            body: Buffer.concat(pieces).toString('utf8'),
          }),
        );
      });
    });

/** `done` gets what answers, or why nothing does. */
function post(
  {
    url,
    headers,
    body,
    toThisMachine,
    timeoutMs,
    roots,
  }: { url: string; headers: Record<string, string>; body: string; toThisMachine: boolean; timeoutMs: number; roots: string[] | undefined },
  done: (answer: IncomingMessage | string) => void,
): void {
  const target = new URL(url);
  const host = target.hostname.replace(/^\[|\]$/g, '');
  if (!toThisMachine && isIpAddress(host) && isOwnMachine(host)) return done(INWARD);
  const send = target.protocol === 'https:' ? requestHttps : requestHttp;
  const failed = (error: NodeJS.ErrnoException): void => done(error.code ?? error.message);
  const signal = AbortSignal.timeout(timeoutMs);
  try {
    const request = send(
      target,
      {
        method: 'POST',
        headers: { ...headers, 'content-length': Buffer.byteLength(body) },
        agent: false,
        signal,
        ...(roots ? { ca: roots } : {}),
        ...(toThisMachine ? {} : { lookup: outward }),
      },
      done,
    );
    request.on('error', (error) => failed(signal.aborted ? new Error('no answer in time') : error));
    request.end(body);
  } catch (error) {
    failed(error as Error);
  }
}
