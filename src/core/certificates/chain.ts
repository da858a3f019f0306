import 'reflect-metadata';
import { createPublicKey, type KeyObject, X509Certificate } from 'node:crypto';
import * as x509 from '@peculiar/x509';

/** What the certificate of a server says, as far as anything is decided by it. */
export interface CertificateFacts {
  /** DNS names that it is for, in lower case; a name that only its subject has counts no more (RFC 9525 §2). */
  names: string[];
  /** In ms. */
  notBefore: number;
  notAfter: number;
  /** The authority, as people know it. */
  issuer: string;
  isSelfSigned: boolean;
  key: { type: string; bits: number };
  /** The hash under the authority’s signature, as `SHA-256`; of Ed25519 its name. */
  signature: string;
  /** SHA-256, as people compare it: `AB:CD:…`. */
  fingerprint: string;
  /** What the authority knows it by (RFC 9773 §4.1); null where it does not say which of its keys signed. */
  renewalId: string | null;
}

/** A certificate with those that lead from it to an authority. */
export interface Chain {
  facts: CertificateFacts;
  /** PEM, in the order in which a server shows them (RFC 8446 §4.4.2). */
  pem: string;
  /** Whether they were given in that order, and nothing beside them. */
  isInOrder: boolean;
  /** Whether it leads to one that signed itself, or to a root that is known, or comes with one above it: then only a root can be missing. */
  isComplete: boolean;
  /** Whether it leads to a root that is trusted. */
  isTrusted: boolean;
}

/** Something that is no certificate, or no key of one: one sentence. */
export class ChainFault extends Error {}

const BLOCK = /-----BEGIN CERTIFICATE-----[A-Za-z0-9+/=\s]+-----END CERTIFICATE-----/g;
const MOST_CERTIFICATES = 10;
/** A chain, or a key, in PEM is never longer; in letters. */
export const MOST_PEM = 100_000;

/** Roots that are trusted, by their subjects. */
export class Roots {
  private readonly bySubject = new Map<string, X509Certificate[]>();

  constructor(pems: readonly string[]) {
    for (const block of pems.flatMap((one) => one.match(BLOCK) ?? [])) {
      const root = parsed(block);
      if (root) this.bySubject.set(root.subject, [...(this.bySubject.get(root.subject) ?? []), root]);
    }
  }

  /** The root that has signed this one. */
  issuerOf(certificate: X509Certificate): X509Certificate | undefined {
    return (this.bySubject.get(certificate.issuer) ?? []).find((root) => isIssuedBy(certificate, root));
  }

  has(certificate: X509Certificate): boolean {
    return (this.bySubject.get(certificate.subject) ?? []).some((root) => root.fingerprint256 === certificate.fingerprint256);
  }
}

/** Reads a certificate with its chain. Where a key is given, the certificate that goes with it is the server’s. Throws ChainFault. */
export function readChain(pem: string, roots: Roots, key: KeyObject | null = null): Chain {
  const given = (pem.length > MOST_PEM ? '' : pem).match(BLOCK)?.map(parsed) ?? [];
  if (given.length === 0 || given.length > MOST_CERTIFICATES || given.includes(null))
    throw new ChainFault(given.length > MOST_CERTIFICATES ? 'It contains too many certificates.' : 'It contains no PEM certificate.');
  const all = given as X509Certificate[];
  const leaf = key
    ? all.find((one) => one.checkPrivateKey(key))
    : all.find((one) => !all.some((other) => other !== one && isIssuedBy(other, one)));
  if (!leaf) throw new ChainFault(key ? 'The key does not belong to the certificate.' : 'Its certificates form a loop.');
  const path = [leaf];
  for (let last = leaf; !isSelfIssued(last); ) {
    const next = all.find((one) => !path.includes(one) && isIssuedBy(last, one));
    if (!next) break;
    path.push(next);
    last = next;
  }
  const top = path.at(-1) as X509Certificate;
  const isTrusted = roots.has(top) || roots.issuerOf(top) !== undefined;
  return {
    facts: readFacts(leaf),
    pem: path
      .map((one) => one.toString().trim())
      .join('\n')
      .concat('\n'),
    isInOrder: path.length === all.length && path.every((one, at) => one === all[at]),
    // One that comes with those above it lacks the root alone, which is the reader's to have (RFC 8446 §4.4.2).
    isComplete: isTrusted || isSelfIssued(top) || path.length > 1,
    isTrusted,
  };
}

/** Reads a private key in PEM. Throws ChainFault. */
export function readPrivateKey(pem: string, parse: (pem: string) => KeyObject): KeyObject {
  try {
    if (pem.length > MOST_PEM) throw new Error('too long');
    return parse(pem);
  } catch {
    throw new ChainFault(
      /ENCRYPTED/.test(pem) ? 'The key is protected by a passphrase; remove the passphrase first.' : 'It contains no PEM private key.',
    );
  }
}

function parsed(block: string): X509Certificate | null {
  try {
    return new X509Certificate(block);
  } catch {
    return null;
  }
}

const isSelfIssued = (one: X509Certificate): boolean => one.subject === one.issuer && isIssuedBy(one, one);
function isIssuedBy(one: X509Certificate, issuer: X509Certificate): boolean {
  try {
    return one.checkIssued(issuer) && one.verify(issuer.publicKey);
  } catch {
    return false;
  }
}

/** What looks like a certificate may hold a key, or a date, that nobody can read. */
function readFacts(certificate: X509Certificate): CertificateFacts {
  try {
    return factsOf(certificate);
  } catch {
    throw new ChainFault('Its certificate cannot be read.');
  }
}

function factsOf(certificate: X509Certificate): CertificateFacts {
  const read = new x509.X509Certificate(certificate.raw);
  const alternative = read.getExtension(x509.SubjectAlternativeNameExtension);
  const authority = read.getExtension(x509.AuthorityKeyIdentifierExtension)?.keyId ?? null;
  const algorithm = read.signatureAlgorithm as { name: string; hash?: { name: string } };
  return {
    names: (alternative?.names.items ?? []).filter((one) => one.type === 'dns').map((one) => one.value.toLowerCase()),
    notBefore: read.notBefore.getTime(),
    notAfter: read.notAfter.getTime(),
    issuer: read.issuerName.getField('CN')[0] ?? read.issuerName.getField('O')[0] ?? certificate.issuer.replaceAll('\n', ', '),
    isSelfSigned: isSelfIssued(certificate),
    key: keyOf(certificate),
    signature: algorithm.hash?.name ?? algorithm.name,
    fingerprint: certificate.fingerprint256,
    renewalId: authority === null ? null : `${base64url(authority)}.${base64url(serialOf(certificate.serialNumber))}`,
  };
}

function keyOf(certificate: X509Certificate): CertificateFacts['key'] {
  const { asymmetricKeyType = 'unknown', asymmetricKeyDetails: details } = createPublicKey(
    certificate.publicKey.export({ type: 'spki', format: 'pem' }),
  );
  const curve = Number(/(\d{3})/.exec(details?.namedCurve ?? '')?.[1] ?? 0);
  return { type: asymmetricKeyType, bits: details?.modulusLength ?? (asymmetricKeyType.startsWith('ed') ? 256 : curve) };
}

/** The octets of a serial number as DER has them: one that would look negative has a zero before it. */
const serialOf = (hex: string): string => (Number.parseInt(hex.slice(0, 2), 16) >= 0x80 ? `00${hex}` : hex);
const base64url = (hex: string): string => Buffer.from(hex, 'hex').toString('base64url');
