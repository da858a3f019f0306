import { randomBytes } from 'node:crypto';

/** How long one opens a mailbox. */
const LIVES_MS = 60_000;

/** Whether somebody greets by a name that is made for a rehearsal, whoever it is. */
export const isRehearsalName = (name: string): boolean => name.toLowerCase().endsWith('.rehearsal.invalid');

/** Short-lived passes that this service gives itself, so that it can sign in as a mail program does without anybody’s password. They live in memory. */
export class Passes {
  private readonly given = new Map<string, { mailboxId: number; until: number }>();

  /** One for a mailbox; `now` by the steady clock. */
  give(mailboxId: number, now: number): string {
    this.forget(now);
    // Letters of one case, so that it can be part of a name as well; a label has 63 at most.
    const pass = `pass-${randomBytes(20).toString('hex')}`;
    this.given.set(pass, { mailboxId, until: now + LIVES_MS });
    return pass;
  }

  /** A name to greet with, by which our own server knows that it is we who try it. */
  greeting(now: number): string {
    return `${this.give(0, now)}.rehearsal.invalid`;
  }

  /** Whether who greets so is this service itself. */
  greetsAs(name: string, now: number): boolean {
    const pass = /^(pass-[a-f0-9]+)\.rehearsal\.invalid$/.exec(name.toLowerCase())?.[1];
    return pass !== undefined && this.opens(pass, 0, now);
  }

  opens(pass: string, mailboxId: number, now: number): boolean {
    const found = this.given.get(pass);
    return found !== undefined && found.mailboxId === mailboxId && now < found.until;
  }

  /** It has served. */
  take(pass: string): void {
    this.given.delete(pass);
  }

  private forget(now: number): void {
    for (const [pass, { until }] of this.given) if (now >= until) this.given.delete(pass);
  }
}
