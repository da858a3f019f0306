import type { Choosable } from './names.ts';

/** A certificate that ports can show, with its key. */
export interface ShownCertificate extends Choosable {
  /** Where it is from: a file, a row, or this host itself. */
  id: string;
  /** With its chain. */
  pem: string;
  /** PEM. */
  key: string;
}

/** Certificates that take their place among those that are shown, and those that are shown no more. */
export interface CertificateChange {
  put: readonly ShownCertificate[];
  drop: readonly string[];
}
