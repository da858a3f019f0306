import type { ProblemDocument } from '../api/schemas.ts';
import { exchange, isUnvouched, OtherCertificate, type Place, type Sending } from './connection.ts';
import { CommandError, EXIT } from './errors.ts';
import { chosenSignIn, type SignIn } from './kept-sign-ins.ts';
import { MOST_ROWS } from './numbers.ts';

/** Talks to the service's API. */
export class ApiClient {
  /** Of the command that runs: the revision that what it changes must still have, and a key under which it is done once only. */
  ifRevision: string | undefined;
  once: string | undefined;
  /** The sign-in that is meant, where it is not the usual one. */
  signIn: string | undefined;
  isDemo = false;
  private changes = 0;

  /** Whether a service is meant that need not be this machine's. */
  get isElsewhere(): boolean {
    return this.signIn !== undefined || this.isDemo;
  }

  /** The service that is asked; null where nobody is signed in. */
  place(): Place | null {
    try {
      return this.access();
    } catch {
      return null;
    }
  }

  private access(): Omit<SignIn, 'account'> {
    return chosenSignIn(this.signIn);
  }

  /** How many changes were asked for. */
  get asked(): number {
    return this.changes;
  }

  get<T>(path: string): Promise<T> {
    return this.call<T>('GET', path);
  }

  /** A whole list, page by page. */
  async list<T>(path: string): Promise<T[]> {
    const all: T[] = [];
    let after = '';
    for (;;) {
      const { rows, next } = await this.get<{ rows: T[]; next: string | null }>(
        `${path}${path.includes('?') ? '&' : '?'}limit=${MOST_ROWS}${after}`,
      );
      all.push(...rows);
      if (next === null) return all;
      after = `&after=${next}`;
    }
  }

  post<T>(path: string, body: object = {}): Promise<T> {
    return this.call<T>('POST', path, body);
  }

  put<T>(path: string, body: object): Promise<T> {
    return this.call<T>('PUT', path, body);
  }

  patch<T>(path: string, body: object): Promise<T> {
    return this.call<T>('PATCH', path, body);
  }

  delete<T>(path: string): Promise<T> {
    return this.call<T>('DELETE', path);
  }

  /** A response that goes on: its body is read by the caller. */
  async stream(path: string, headers: Record<string, string>): Promise<Response> {
    const access = this.access();
    const response = await reach(access, path, { headers: { ...headers, authorization: `Bearer ${access.token}` } });
    if (!response.ok) refuse(response.status, await response.json().catch(() => ({})));
    return response;
  }

  private async call<T>(method: string, path: string, body?: object): Promise<T> {
    const access = this.access();
    const headers = { authorization: `Bearer ${access.token}`, ...(method === 'GET' ? {} : this.conditions()) };
    return (await request(access, method, path, headers, body)).body as T;
  }

  /** A command makes the same changes in the same order each time: each has the key with its number. */
  private conditions(): Record<string, string> {
    this.changes += 1;
    return {
      ...(this.ifRevision === undefined ? {} : { 'if-match': `"${this.ifRevision}"` }),
      ...(this.once === undefined ? {} : { 'idempotency-key': this.changes === 1 ? this.once : `${this.once}.${this.changes}` }),
    };
  }
}

/** One HTTP exchange with the service; refusals and silence become CommandErrors. */
export async function request(
  place: Place,
  method: string,
  path: string,
  headers: Record<string, string>,
  body?: object,
): Promise<{ body: unknown; headers: Headers }> {
  const response = await reach(place, path, {
    method,
    headers: { ...headers, ...(body ? { 'content-type': 'application/json' } : {}) },
    ...(body ? { body: JSON.stringify(body) } : {}),
  });
  const text = await response.text();
  let parsed: unknown;
  try {
    parsed = JSON.parse(text);
  } catch {
    throw new CommandError(EXIT.unreachable, `The server at ${place.url} is not a Tenedor service.`, 'Check the URL.');
  }
  if (!response.ok) refuse(response.status, parsed);
  return { body: parsed, headers: response.headers };
}

async function reach(place: Place, path: string, sending: Sending): Promise<Response> {
  try {
    return await exchange(place, `/api/v1${path}`, sending);
  } catch (error) {
    throw unreachable(place.url, error);
  }
}

function unreachable(url: string, error: unknown): CommandError {
  if (error instanceof OtherCertificate)
    return new CommandError(
      EXIT.unreachable,
      `The certificate of ${url} has changed: its fingerprint is ${error.shown}.`,
      'If the service has a new certificate, sign in again. If not, somebody may be intercepting the connection.',
    );
  if (isUnvouched(error))
    return new CommandError(
      EXIT.unreachable,
      `The certificate of ${url} is not signed by a trusted authority, or not valid for this name.`,
      'Sign in again to check and trust its fingerprint: tenedor sign-in --url URL',
    );
  const reason = (error as NodeJS.ErrnoException).code ?? (error as Error).message;
  return new CommandError(
    EXIT.unreachable,
    `The service at ${url} can’t be reached (${reason}).`,
    'Is it running? Start it with: tenedor serve --config FILE',
  );
}

function refuse(status: number, body: unknown): never {
  const problem = body as Partial<ProblemDocument>;
  throw new CommandError(
    problem.code === 'exists-already' ? EXIT.exists : EXIT.refused,
    problem.detail ?? `The service answered ${status}.`,
    problem.remedy ?? 'See its log.',
    problem.detail === undefined ? null : problem,
  );
}

/** Where nothing was found of a domain, it may be because it is misspelt: that is not nothing. */
export async function requireDomainOf(client: ApiClient, domain: string | undefined, isEmpty: boolean): Promise<void> {
  if (domain !== undefined && isEmpty) await client.get(`/domains/${part(domain)}`);
}

/** A part of a path, escaped. Dots alone would lead to another place (RFC 3986 §5.2.4), and nothing is called so. */
export function part(text: string): string {
  if (/^\.{0,2}$/.test(text)) throw new CommandError(EXIT.usage, `“${text}” is not a valid name.`, 'Check the spelling.');
  return encodeURIComponent(text);
}
