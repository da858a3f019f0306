import type { AcceptanceDeps } from '../acceptance/deps.ts';
import type { CallOut } from '../base/ports.ts';

/** What telling customers and programs needs. */
export interface NoticesDeps extends AcceptanceDeps {
  callOut: CallOut;
}
