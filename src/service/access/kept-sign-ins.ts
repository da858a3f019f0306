import { isIpAddress, plainAddress } from '../../core/address/ip-address.ts';
import type { Order } from '../../core/vocabulary.ts';
import { findDomainFacts } from '../../store/domains.ts';
import { lookUpMailbox } from '../../store/mailboxes.ts';
import type { Page, PageAsked } from '../../store/page.ts';
import * as store from '../../store/sign-in-history.ts';
import { faultText } from '../base/problem.ts';
import type { AccessDeps } from './deps.ts';

const EVERY_MS = 5000;
const KEPT_MS = 90 * 24 * 3_600_000;
const AT_ONCE = 500;
/** Writes the history of sign-ins down while the service runs, and once more when it stops. */
export class SignInHistoryWriter {
  private timer: NodeJS.Timeout | null = null;
  private running: Promise<void> = Promise.resolve();

  constructor(private readonly context: Pick<AccessDeps, 'db' | 'clock' | 'log' | 'signInHistory'>) {}

  start(): void {
    this.timer = setInterval(() => {
      this.running = this.running.then(() => this.save());
    }, EVERY_MS);
    this.timer.unref();
  }

  async stop(): Promise<void> {
    if (this.timer) clearInterval(this.timer);
    await this.running;
    await this.save();
  }

  /** One piece of work; what can't be written now is lost, and the log says so. */
  async save(): Promise<void> {
    const { db, clock, log, signInHistory } = this.context;
    try {
      await db.commitInPieces(signInHistory.take(), (some) => {
        for (const one of some) store.noteSignIns(db, one);
        return some.length;
      });
      while ((await db.commit(() => store.removeSignInsBefore(db, clock.now() - KEPT_MS, AT_ONCE))) === AT_ONCE);
    } catch (error) {
      log.warn({ fault: faultText(error) }, 'sign-ins could not be written down');
    }
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
