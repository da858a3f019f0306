import type { DnsDeps } from '../dns/deps.ts';
import type { AuthorityDoor, ProbeServer, TlsPort } from './doors.ts';
import type { HeldCertificates } from './held-certificates.ts';

/** What those need who keep the certificates of all names. */
export interface CertificateDeps extends DnsDeps {
  certificates: HeldCertificates;
  /** Who gives certificates; null where none is set. */
  authority: AuthorityDoor | null;
  /** What the challenge port answers with, by token (RFC 8555 §8.3). */
  challenges: Map<string, string>;
  /** Whether there is such a port. */
  hasChallengePort: boolean;
  /** Looks at what a port of this host shows. */
  probe: ProbeServer;
  /** Ports that speak TLS. */
  tlsPorts: () => TlsPort[];
}
