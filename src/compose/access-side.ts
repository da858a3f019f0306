import type { AccessPortSettings } from '../access/access-house.ts';
import type { CertificateChange } from '../core/certificates/shown.ts';

/** Whoever speaks to mail programs: this process, or others. */
export interface AccessSide {
  /** Processes of its own, with how many conversations each has open; none when it is this one. */
  readonly processes: { pid: number; open: number }[];
  /** Resolves with the number of the port. Throws ListenError. */
  listen(port: AccessPortSettings): Promise<number>;
  /** Other certificates are shown from the next connection on. */
  certificatesChanged(change: CertificateChange): void;
  /** One address may have so many open on each port, from the next one on. */
  connectionsChanged(perAddress: number): void;
  stopAccepting(): void;
  quiet(): Promise<void>;
  destroyAll(): void;
}
