import { isIpAddress, plainAddress } from '../../core/address/ip-address.ts';
import type { Order } from '../../core/vocabulary.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { lookUpMailbox } from '../../store/mailboxes.ts';
import type { Page, PageAsked } from '../../store/page.ts';
import * as store from '../../store/sign-in-history.ts';
import { BackgroundLoop } from '../base/background-loop.ts';
import { faultText } from '../base/problem.ts';
import type { AccessDeps } from './deps.ts';

const EVERY_MS = 5000;
const KEPT_MS = 90 * 24 * 3_600_000;
const AT_ONCE = 500;
const FAILED = 'sign-ins could not be saved';

/** Writes the history of sign-ins down while the service runs, and once more when it stops. */
export class SignInHistoryWriter {
  private readonly loop: BackgroundLoop;

  constructor(private readonly context: Pick<AccessDeps, 'db' | 'clock' | 'log' | 'signInHistory'>) {
    this.loop = new BackgroundLoop({ log: context.log, failed: FAILED, everyMs: EVERY_MS, turn: () => this.save() });
  }

  start(): void {
    this.loop.start();
  }

  async stop(): Promise<void> {
    await this.loop.stop();
    await this.save().catch((error: unknown) => this.context.log.error({ fault: faultText(error) }, FAILED));
  }

  /** Writes what was noted since the last time, and removes what is older than 90 days. What can't be written is lost. */
  async save(): Promise<void> {
    const { db, clock, signInHistory } = this.context;
    await db.commitInPieces(signInHistory.take(), (some) => {
      for (const one of some) store.noteSignIns(db, one);
      return some.length;
    });
    const before = clock.now() - KEPT_MS;
    while ((await db.commit(() => store.removeSignInsBefore(db, before, AT_ONCE))) === AT_ONCE);
  }
}

/** Sign-ins of the last 90 days: to a mailbox, to a domain's, from a client, or to mailboxes with that text in their address. */
export function listSignIns({ db }: Pick<AccessDeps, 'db'>, asked: PageAsked & { sort: Order<'signIns'> }): Promise<Page<store.SignIns>> {
  return store.pageOfSignIns(db, signInsOf(db, asked.search.trim().toLowerCase()), asked);
}

function signInsOf(db: AccessDeps['db'], text: string): store.SignInsOf {
  if (text === '') return null;
  if (isIpAddress(text)) return { kind: 'client', text: plainAddress(text) };
  const at = text.lastIndexOf('@');
  const mailbox = at > 0 ? lookUpMailbox(db, text.slice(0, at), text.slice(at + 1)) : undefined;
  if (mailbox) return { kind: 'mailbox', id: mailbox.id };
  const domain = findDomainFacts(db, text);
  return domain ? { kind: 'domain', id: domain.id } : { kind: 'words', text };
}
