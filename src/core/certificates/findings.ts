import type { FindingCode } from '../../texts/en/findings.ts';
import type { Verdict } from '../vocabulary.ts';
import type { Chain } from './chain.ts';
import { coversAny } from './names.ts';

/** What is wrong with what a name is answered with, or that all is well. */
export interface CertificateFinding {
  code: FindingCode;
  verdict: Verdict;
  text: string;
  /** What to do; empty where there is nothing. */
  action: string;
}

const DAY = 24 * 3600_000;
/** So long before its end a certificate that nobody renews by itself is spoken of; one that is renewed only when that has failed for long. */
const SOON_MS = 21 * DAY;
const LATE_SHARE = 1 / 6;
const WEAK_HASHES = new Set(['SHA-1', 'MD5', 'MD2']);

/** Looks at the certificate that a client gets who asks for a name. The worst comes first. */
export function certificateFindings(
  name: string,
  { facts, isInOrder, isComplete, isTrusted }: Chain,
  { now, isRenewed }: { now: number; isRenewed: boolean },
): CertificateFinding[] {
  const found: CertificateFinding[] = [];
  const add = (code: FindingCode, verdict: Verdict, text: string, action: string): void => {
    found.push({ code, verdict, text, action });
  };
  const day = (ms: number): string => new Date(ms).toISOString().slice(0, 10);
  const renewIt = isRenewed ? `Fetch it now: tenedor certificate fetch ${name}` : `Add a newer one: tenedor certificate add`;
  if (!coversAny(facts.names, name))
    add(
      'certificate-other-name',
      'wrong',
      `Clients that ask for ${name} get a certificate for ${facts.names.slice(0, 3).join(', ') || 'no name'}.`,
      `Fetch one, or add it: tenedor certificate fetch ${name}`,
    );
  if (now >= facts.notAfter) add('certificate-expired', 'wrong', `It has expired on ${day(facts.notAfter)}.`, renewIt);
  else if (now < facts.notBefore)
    add('certificate-not-yet', 'wrong', `It is not valid before ${day(facts.notBefore)}.`, 'Check the clock: tenedor clock show');
  else if (facts.notAfter - now < (isRenewed ? LATE_SHARE * (facts.notAfter - facts.notBefore) : SOON_MS))
    add(
      'certificate-expiring',
      'weak',
      `It expires on ${day(facts.notAfter)}${isRenewed ? ', and was not renewed in time' : ''}.`,
      renewIt,
    );
  if (facts.isSelfSigned)
    add(
      'certificate-self-signed',
      'wrong',
      'It is self-signed: clients warn about it, or reject it.',
      `Fetch one, or add one of an authority: tenedor certificate fetch ${name}`,
    );
  else if (!isComplete)
    add(
      'certificate-chain-incomplete',
      'wrong',
      `Its intermediate certificates are missing, or its authority (${facts.issuer}) is not trusted here.`,
      'Add it again with all intermediates. Add your own authority to mail.trusted_roots.',
    );
  else if (!isTrusted)
    add(
      'certificate-untrusted',
      'wrong',
      `Its authority (${facts.issuer}) is not trusted here.`,
      'Use a public authority, or add this one to mail.trusted_roots.',
    );
  if (!isInOrder)
    add(
      'certificate-chain-order',
      'weak',
      'Its chain is in the wrong order or contains other certificates; it is served in the correct order.',
      'Reorder the file: the server certificate first, then each issuer in turn.',
    );
  if (
    (facts.key.type === 'rsa' && facts.key.bits < 2048) ||
    (facts.key.type === 'ec' && facts.key.bits < 256) ||
    WEAK_HASHES.has(facts.signature)
  )
    add(
      'certificate-weak',
      'wrong',
      `Its key (${facts.key.type} ${facts.key.bits}) or its signature (${facts.signature}) is too weak for current clients.`,
      renewIt,
    );
  if (found.length === 0)
    return [{ code: 'certificate-good', verdict: 'good', text: `${facts.issuer}, until ${day(facts.notAfter)}.`, action: '' }];
  return found.sort((one, other) => Number(other.verdict === 'wrong') - Number(one.verdict === 'wrong'));
}
