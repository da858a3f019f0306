import type { Domain } from '../../store/domains.ts';
import type { CertificateDeps } from './deps.ts';

/**
 * The name that a domain's people connect to, for the record sheet, the settings and the documents that programs ask for: its own where that has a
 * certificate that programs take, else the host's.
 */
export function mailServerOf(
  { certificates, host, clock }: Pick<CertificateDeps, 'certificates' | 'host' | 'clock'>,
  domain: Pick<Domain, 'name' | 'mailName' | 'twinOf'>,
): string {
  if (domain.mailName === 'host' || domain.twinOf !== null) return host.name;
  const own = `mail.${domain.name}`;
  return isTaken({ certificates, clock }, own) ? own : host.name;
}

/** Whether programs take what a name is answered with. */
export function isTaken({ certificates, clock }: Pick<CertificateDeps, 'certificates' | 'clock'>, name: string): boolean {
  const held = certificates.for(name);
  const now = clock.now();
  return held?.isTrusted === true && held.notBefore <= now && now < held.notAfter;
}
