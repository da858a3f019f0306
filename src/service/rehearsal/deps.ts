import type { AskOut } from '../base/ports.ts';
import type { OverviewDeps } from '../overview/deps.ts';
import type { OpenRehearsal, Witnesses } from './rehearsal-door.ts';

/** What goes all the ways that mail goes here needs everything, and a way out. */
export interface RehearsalDeps extends OverviewDeps {
  /** Connects as a client would, and keeps what is said. */
  rehearse: OpenRehearsal;
  /** Where hosts ask each other to rehearse. */
  witnesses: Witnesses;
  askOut: AskOut;
}
