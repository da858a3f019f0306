import type { DirectoryDeps } from '../directory/deps.ts';
import type { Passes } from './passes.ts';
import type { PasswordChecks } from './password-checks.ts';
import type { Sessions } from './sessions.ts';
import type { SignInGuard } from './sign-in-guard.ts';
import type { SignInHistory } from './sign-in-history.ts';
import type { SignInTroubles } from './sign-in-troubles.ts';

/** What signing in needs. */
export interface AccessDeps extends DirectoryDeps {
  /** Against guessing, for mailboxes and for the console apart. */
  guards: { mailboxes: SignInGuard; console: SignInGuard };
  passwords: PasswordChecks;
  /** What this service signs in with itself, to rehearse it. */
  passes: Passes;
  /** Sign-ins that failed lately, and why. */
  signInTroubles: SignInTroubles;
  signInHistory: SignInHistory;
  /** One-time codes that were asked for on the machine itself. */
  recovery: { take(): { account: string; codeHash: string } | null };
  /** Everybody who is signed in at this moment. */
  sessions: Sessions;
}
