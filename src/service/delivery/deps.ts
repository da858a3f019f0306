import type { AcceptanceDeps } from '../acceptance/deps.ts';
import type { RemoteHost, SendMail } from '../base/ports.ts';

/** What handing over needs. */
export interface DeliveryDeps extends AcceptanceDeps {
  /** The ways to other servers: a message, a walk without one, a signed call. */
  send: SendMail;
  walk: (host: RemoteHost) => Promise<{ step: string; good: boolean; text: string }[]>;
  /** Recipients that are being handed over to a server at this moment. */
  handingOver: Set<number>;
}
