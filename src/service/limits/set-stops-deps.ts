import type { ScopeRef } from '../../store/limits.ts';
import type { NoticeText } from '../../texts/en/notices.ts';
import type { DirectoryDeps } from '../directory/deps.ts';
import type { NamedScope } from '../directory/scopes.ts';
import type { Holds } from './holds.ts';
import type { LimitKeeper } from './limit-keeper.ts';
import type { Stops } from './stops-in-force.ts';

/** What stopping a sender needs. */
export interface StoppingDeps extends DirectoryDeps {
  limits: LimitKeeper;
  holds: Holds;
  stops: Stops;
  /** Counts how sends end. */
  brakes: { beginAnew(scope: ScopeRef): void };
  /** Tells customers and programs what has happened to somebody’s sending; the room of notices provides it. */
  notices: {
    tell(event: 'brake-set' | 'unusual-sending', scope: NamedScope, data: object, text: NoticeText): void;
  };
}
