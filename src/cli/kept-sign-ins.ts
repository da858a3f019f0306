import { chmodSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { homedir } from 'node:os';
import { dirname, join } from 'node:path';
import type { Place } from './connection.ts';
import { CommandError, EXIT } from './errors.ts';

/** Where a command is signed in, and as which account of that service. */
export interface SignIn extends Place {
  account: string;
  token: string;
}

interface Kept {
  /** The one that is used where none is named. */
  current: string;
  signIns: SignIn[];
}

export function signInFile(): string {
  return process.env['TENEDOR_CLIENT'] ?? join(process.env['XDG_CONFIG_HOME'] ?? join(homedir(), '.config'), 'tenedor', 'client.json');
}

/** `operator@mail.host.example:8025` */
export const nameOf = ({ account, url }: Pick<SignIn, 'account' | 'url'>): string => `${account}@${new URL(url).host}`;

export function readSignIns(file = signInFile()): Kept {
  let text: string;
  try {
    text = readFileSync(file, 'utf8');
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOENT') return { current: '', signIns: [] };
    throw new CommandError(
      EXIT.usage,
      `The file ${file} can’t be read (${(error as NodeJS.ErrnoException).code}).`,
      'Check its owner and permissions.',
    );
  }
  try {
    const kept = JSON.parse(text) as Partial<Kept> & Partial<SignIn>;
    // Earlier versions kept one.
    const signIns = kept.signIns ?? [{ account: 'operator', url: kept.url ?? '', token: kept.token ?? '', fingerprint: kept.fingerprint }];
    if (signIns.every((one) => URL.canParse(one.url) && typeof one.token === 'string' && one.token !== ''))
      return { current: kept.current ?? signIns.map(nameOf)[0] ?? '', signIns };
  } catch {
    // Said below.
  }
  throw new CommandError(EXIT.usage, `The file ${file} is not a list of sign-ins.`, 'Rename it, and sign in again: tenedor sign-in');
}

function write(kept: Kept, file: string): void {
  mkdirSync(dirname(file), { recursive: true, mode: 0o700 });
  writeFileSync(file, `${JSON.stringify(kept, null, 2)}\n`, { mode: 0o600 });
  // The mode counts for new files only.
  chmodSync(file, 0o600);
}

/** Keeps a sign-in beside the others, in the place of an earlier one of the same name; it is used from now on. */
export function keepSignIn(signIn: SignIn, file = signInFile()): void {
  const name = nameOf(signIn);
  const others = readSignIns(file).signIns.filter((one) => nameOf(one) !== name);
  write({ current: name, signIns: [...others, signIn] }, file);
}

export function requireSignIn(name: string): SignIn {
  const { signIns } = readSignIns();
  const found = signIns.find((one) => nameOf(one) === name);
  if (found) return found;
  throw new CommandError(
    EXIT.usage,
    `You are not signed in as ${name}.`,
    signIns.length === 0 ? 'Sign in first: tenedor sign-in' : `You are signed in as: ${signIns.map(nameOf).join(', ')}.`,
  );
}

export function useSignIn(name: string): void {
  requireSignIn(name);
  write({ ...readSignIns(), current: name }, signInFile());
}

export function removeSignIn(name: string): void {
  requireSignIn(name);
  const { current, signIns } = readSignIns();
  const left = signIns.filter((one) => nameOf(one) !== name);
  write({ current: current === name ? (left.map(nameOf).at(-1) ?? '') : current, signIns: left }, signInFile());
}

/** The sign-in that a command uses: the named one, else what the environment says, else the current one. */
export function chosenSignIn(named: string | undefined): Omit<SignIn, 'account'> {
  if (named !== undefined) return requireSignIn(named);
  const { TENEDOR_URL: url, TENEDOR_TOKEN: token, TENEDOR_FINGERPRINT: fingerprint } = process.env;
  if (url && token) return { url, token, fingerprint };
  const { current, signIns } = readSignIns();
  const kept = signIns.find((one) => nameOf(one) === current) ?? signIns.at(-1);
  if (!kept)
    throw new CommandError(
      EXIT.usage,
      'You are not signed in to a service.',
      'Sign in first: tenedor sign-in --url http://127.0.0.1:8025 (in the demo, add --demo to the command).',
    );
  return { url: url || kept.url, token: token || kept.token, fingerprint: url ? fingerprint : kept.fingerprint };
}
