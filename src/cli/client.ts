import { chmodSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { homedir } from 'node:os';
import { dirname, join } from 'node:path';
import type { ProblemDocument } from '../api/schemas.ts';

/** How a command ends; the numbers are promised to scripts. */
export const EXIT = { done: 0, notGood: 1, usage: 2, refused: 3, unreachable: 4 } as const;

/** Ends a command: what is wrong, what to do, and the exit code. */
export class CommandError extends Error {
  constructor(
    readonly exitCode: number,
    readonly wrong: string,
    readonly remedy: string,
  ) {
    super(wrong);
  }
}

export interface Access {
  url: string;
  token: string;
}

export function accessFile(): string {
  return process.env['TENEDOR_CLIENT'] ?? join(process.env['XDG_CONFIG_HOME'] ?? join(homedir(), '.config'), 'tenedor', 'client.json');
}

export function keepAccess(access: Access, file = accessFile()): void {
  mkdirSync(dirname(file), { recursive: true, mode: 0o700 });
  writeFileSync(file, `${JSON.stringify(access, null, 2)}\n`, { mode: 0o600 });
  // The mode counts for new files only.
  chmodSync(file, 0o600);
}

function readAccess(): Access {
  const { TENEDOR_URL: url, TENEDOR_TOKEN: token } = process.env;
  if (url && token) return { url, token };
  const file = accessFile();
  try {
    const access = JSON.parse(readFileSync(file, 'utf8')) as Partial<Access>;
    if (typeof access.url === 'string' && typeof access.token === 'string') return { url: url || access.url, token: token || access.token };
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOENT')
      throw new CommandError(
        EXIT.usage,
        'This command does not know which service to talk to.',
        'Sign in first: tenedor sign-in --url http://127.0.0.1:8025 (in the demo, add --demo to the command).',
      );
  }
  throw new CommandError(EXIT.usage, `The file ${file} does not hold a url and a token.`, 'Sign in again: tenedor sign-in');
}

/** Talks to the service's API. */
export class ApiClient {
  constructor(private readonly access: () => Access = readAccess) {}

  get<T>(path: string): Promise<T> {
    return this.call<T>('GET', path);
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
    const { url, token } = this.access();
    let response: Response;
    try {
      response = await fetch(new URL(`/api/v1${path}`, url), { headers: { ...headers, authorization: `Bearer ${token}` } });
    } catch (error) {
      throw unreachable(url, error);
    }
    if (!response.ok) refuse(response.status, await response.json().catch(() => ({})));
    return response;
  }

  private async call<T>(method: string, path: string, body?: object): Promise<T> {
    const { url, token } = this.access();
    return (await request(url, method, path, { authorization: `Bearer ${token}` }, body)).body as T;
  }
}

/** One HTTP exchange with the service; refusals and silence become CommandErrors. */
export async function request(
  url: string,
  method: string,
  path: string,
  headers: Record<string, string>,
  body?: object,
): Promise<{ body: unknown; headers: Headers }> {
  let response: Response;
  try {
    response = await fetch(new URL(`/api/v1${path}`, url), {
      method,
      headers: { ...headers, ...(body ? { 'content-type': 'application/json' } : {}) },
      ...(body ? { body: JSON.stringify(body) } : {}),
    });
  } catch (error) {
    throw unreachable(url, error);
  }
  const text = await response.text();
  let parsed: unknown;
  try {
    parsed = JSON.parse(text);
  } catch {
    throw new CommandError(EXIT.unreachable, `What answers at ${url} is no Tenedor service.`, 'Check the address.');
  }
  if (!response.ok) refuse(response.status, parsed);
  return { body: parsed, headers: response.headers };
}

function unreachable(url: string, error: unknown): CommandError {
  const reason = ((error as Error).cause as NodeJS.ErrnoException | undefined)?.code ?? (error as Error).message;
  return new CommandError(
    EXIT.unreachable,
    `The service at ${url} can’t be reached (${reason}).`,
    'Is it running? Start it with: tenedor serve --config FILE',
  );
}

function refuse(status: number, body: unknown): never {
  const problem = body as Partial<ProblemDocument>;
  throw new CommandError(EXIT.refused, problem.detail ?? `The service answered ${status}.`, problem.remedy ?? 'Look into its log.');
}

/** A part of a path, escaped. */
export const part = (text: string): string => encodeURIComponent(text);
