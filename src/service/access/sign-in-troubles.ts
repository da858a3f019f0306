import { plainAddress } from '../../core/address/ip-address.ts';
import { parseAddress } from '../../core/address/mailbox-address.ts';
import { type SignInService, TROUBLES, type TroubleKind } from '../../core/vocabulary.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { findAlias, lookUpMailbox, mailboxesCalled } from '../../store/mailboxes.ts';
import type { BaseDeps } from '../base/deps.ts';

/** Why a mail program does not get in, as far as it concerns somebody here. */
export interface SignInTrouble {
  id: number;
  kind: TroubleKind;
  service: SignInService;
  client: string;
  /** What was typed as the name; null when it did not come so far. */
  typed: string | null;
  /** Whose mailbox is meant, as far as that is clear. */
  mailbox: string | null;
  domain: string | null;
  times: number;
  first: number;
  last: number;
  /** What is wrong, and what is to be done about it. */
  text: string;
  remedy: string;
}

/** So many are kept of each kind, and of those so many about one mailbox or domain: guessers push nobody else aside. */
const MOST_OF_A_KIND = 500;
const MOST_ABOUT_ONE = 20;
const KEPT_MS = 7 * 24 * 3_600_000;
const LONGEST_NAME = 120;

/** Sign-ins that failed lately, for whoever has to find out why. They are forgotten when the service stops. */
export class SignInTroubles {
  private readonly kept = new Map<TroubleKind, Map<string, SignInTrouble>>(TROUBLES.map((kind) => [kind, new Map()]));
  private numbers = 0;

  note(at: number, trouble: Omit<SignInTrouble, 'id' | 'times' | 'first' | 'last'>): void {
    const all = this.kept.get(trouble.kind) ?? new Map<string, SignInTrouble>();
    const key = [trouble.service, trouble.client, trouble.typed ?? '', trouble.mailbox ?? ''].join(' ');
    const before = all.get(key);
    // The newest stands last.
    all.delete(key);
    if (!before) this.numbers += 1;
    all.set(key, { ...trouble, id: before?.id ?? this.numbers, times: (before?.times ?? 0) + 1, first: before?.first ?? at, last: at });
    if (before) return;
    const whose = trouble.mailbox ?? trouble.domain ?? trouble.client;
    const alike = [...all].filter(([, one]) => (one.mailbox ?? one.domain ?? one.client) === whose);
    if (alike.length > MOST_ABOUT_ONE) all.delete(alike[0]?.[0] ?? '');
    else if (all.size > MOST_OF_A_KIND) all.delete(all.keys().next().value ?? '');
  }

  /** Whoever got in from there has no trouble any more. */
  settled(mailbox: string, client: string): void {
    for (const all of this.kept.values())
      for (const [key, one] of all) if (one.client === client && (one.mailbox === mailbox || one.mailbox === null)) all.delete(key);
  }

  /** The newest first. */
  list(now: number): SignInTrouble[] {
    return [...this.kept.values()]
      .flatMap((all) => [...all.values()])
      .filter((one) => one.last > now - KEPT_MS)
      .sort((one, other) => other.last - one.last);
  }
}

type Noted = Pick<BaseDeps, 'db' | 'clock'> & { signInTroubles: SignInTroubles };

/** Troubles about what is still here. */
export function listSignInTroubles({ db, clock, signInTroubles }: Noted): SignInTrouble[] {
  return signInTroubles.list(clock.now()).filter(({ domain }) => domain === null || findDomainFacts(db, domain) !== undefined);
}

/** A sign-in that failed by its name or password. What nobody here could mean is only guessed at, and is not kept. */
export function noteWrongSignIn({ db, clock, signInTroubles }: Noted, service: SignInService, client: string, user: string): void {
  const typed = user.slice(0, LONGEST_NAME);
  const note = (kind: TroubleKind, mailbox: string | null, domain: string, text: string, remedy: string): void =>
    signInTroubles.note(clock.now(), { kind, service, client, typed, mailbox, domain, text, remedy });
  const parsed = parseAddress(user);
  if (parsed.kind === 'invalid') {
    const name = user.trim().toLowerCase();
    const meant = /^[^\s@\\/]{1,64}$/.test(name) ? mailboxesCalled(db, name, 3) : [];
    for (const { address, domain } of meant)
      note('name-form', address, domain, `The name is “${typed}”; it must be the whole address.`, `Type ${address} as the user name.`);
    return;
  }
  const { local, domain } = { local: parsed.address.local.toLowerCase(), domain: parsed.address.domain };
  const facts = findDomainFacts(db, domain);
  if (!facts) return;
  const address = `${local}@${domain}`;
  if (lookUpMailbox(db, local, domain))
    return note('password', address, domain, 'The password is wrong.', `If it is forgotten: tenedor mailbox set ${address} --new-password`);
  if (facts.twinOf !== null)
    return note(
      'twin',
      `${local}@${facts.twinOf}`,
      domain,
      `${domain} is a twin: its mailboxes sign in by their addresses in ${facts.twinOf}.`,
      `Type ${local}@${facts.twinOf} as the user name.`,
    );
  const alias = findAlias(db, local, domain);
  if (alias)
    return note(
      'alias',
      null,
      domain,
      `${address} is an alias; aliases have no password.`,
      `Sign in with the mailbox it delivers to: ${alias.targets.slice(0, 3).join(', ')}.`,
    );
  note('no-mailbox', null, domain, `There is no mailbox ${address}.`, `List mailboxes: tenedor mailbox list ${domain}`);
}

/** A right password that only the console of a person may use: devices have their own. */
export function noteMainPassword({ clock, signInTroubles }: Noted, service: SignInService, client: string, mailbox: string): void {
  signInTroubles.note(clock.now(), {
    kind: 'main-password',
    service,
    client,
    typed: mailbox,
    mailbox,
    domain: mailbox.slice(mailbox.lastIndexOf('@') + 1),
    text: 'The password is correct, but this mailbox accepts only app passwords.',
    remedy: `Create one for the device: tenedor app-password add ${mailbox} NAME`,
  });
}

/** A name was sent without TLS, where nobody may sign in so (RFC 8314 §3.3). */
export function noteInClear({ db, clock, signInTroubles }: Noted, service: SignInService, client: string, user: string | null): void {
  const parsed = user === null ? null : parseAddress(user);
  const address = parsed?.kind === 'ok' ? parsed.address : null;
  const found = address && lookUpMailbox(db, address.local.toLowerCase(), address.domain) ? address : null;
  // Who names nobody here is a guesser.
  if (user !== null && !found) return;
  signInTroubles.note(clock.now(), {
    kind: 'in-clear',
    service,
    client,
    typed: user?.slice(0, LONGEST_NAME) ?? null,
    mailbox: found && `${found.local.toLowerCase()}@${found.domain}`,
    domain: found?.domain ?? null,
    text: 'The client tries to sign in without TLS, which exposes the password.',
    remedy:
      service === 'submission'
        ? 'Set its security to TLS on port 465, or STARTTLS on port 587; if the password was sent, change it.'
        : service === 'IMAP'
          ? 'Set its security to TLS on port 993, or STARTTLS on port 143; if the password was sent, change it.'
          : 'Set its security to TLS on port 995, or STLS on port 110; if the password was sent, change it.',
  });
}

/** Why TLS did not come about, in the words of OpenSSL: only what a person can do something about. */
const TLS_FAULTS: readonly [pattern: RegExp, kind: TroubleKind, text: string, remedy: string][] = [
  [
    /unsupported protocol|no shared cipher|wrong ssl version|inappropriate fallback/i,
    'old-tls',
    'The client supports only insecure TLS versions or ciphers.',
    'Update the client or its operating system: TLS 1.2 or newer is required (RFC 8996).',
  ],
  [
    /alert (?:certificate unknown|unknown ca|bad certificate|certificate expired|unsupported certificate)/i,
    'certificate',
    'The client rejected this server’s certificate.',
    'Check the server name in its settings, and that the certificate has that name and has not expired.',
  ],
];

export function noteTlsFault({ clock, signInTroubles }: Noted, service: SignInService, clientAddress: string, reason: string): void {
  const found = TLS_FAULTS.find(([pattern]) => pattern.test(reason));
  if (!found) return;
  const [, kind, text, remedy] = found;
  signInTroubles.note(clock.now(), {
    kind,
    service,
    client: plainAddress(clientAddress),
    typed: null,
    mailbox: null,
    domain: null,
    text,
    remedy,
  });
}
