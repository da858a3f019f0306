import { createPrivateKey, type KeyObject } from 'node:crypto';
import { createSecureContext } from 'node:tls';
import { ChainFault, readChain, readPrivateKey } from '../../core/certificates/chain.ts';
import * as store from '../../store/certificates.ts';
import { addEntry } from '../../store/journeys.ts';
import { badInput, Problem } from '../base/problem.ts';
import type { Removal } from '../directory/removals.ts';
import type { CertificateDeps } from './deps.ts';
import type { HeldCertificate } from './held-certificates.ts';
import { certificateRows, type NameRow, requireName } from './name-rows.ts';

/** Adds a certificate of an authority with its key; it takes the place of others for its names. */
export async function addCertificate(
  context: CertificateDeps,
  { certificate, key }: { certificate: string; key: string },
): Promise<NameRow[]> {
  const { db, clock, certificates, keyFile } = context;
  const read = <Value>(parameter: string, work: () => Value): Value => {
    try {
      return work();
    } catch (error) {
      if (!(error instanceof ChainFault)) throw error;
      throw badInput(
        parameter,
        error.message,
        'Give the files that the authority has given: the certificate with its chain, and the key, both in PEM.',
      );
    }
  };
  const privateKey = read('key', () => readPrivateKey(key, createPrivateKey));
  const chain = read('certificate', () => readChain(certificate, certificates.roots, privateKey));
  const { names, notAfter, issuer } = chain.facts;
  if (names.length === 0)
    throw badInput(
      'certificate',
      'The certificate has no host names.',
      'Get a certificate whose subjectAltName has the names that clients connect to.',
    );
  if (!canBeShown(chain.pem, privateKey))
    throw badInput(
      'key',
      'TLS rejects this certificate with this key.',
      'Get one with a current key type: EC P-256, or RSA with 2048 bits.',
    );
  if (notAfter <= clock.now()) throw badInput('certificate', 'The certificate has expired.', 'Give a newer one.');
  await db.commit(() => {
    // Another one of just these names is not needed any more.
    for (const old of store.listCertificates(db))
      if (old.source === 'added' && sameNames(old.names, names)) store.removeCertificate(db, old.id);
    store.addCertificate(db, {
      source: 'added',
      names,
      chain: chain.pem,
      privateKey: keyFile.seal(privateKey.export({ type: 'pkcs8', format: 'pem' }).toString()),
      isInOrder: chain.isInOrder,
      since: clock.now(),
    });
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'certificate-added', data: { names, issuer, until: notAfter } });
  });
  return certificateRows(context, names);
}

/** Too short a key, or a hash that can be forged, is refused by the library before any program could. */
function canBeShown(cert: string, key: KeyObject): boolean {
  try {
    createSecureContext({ cert, key: key.export({ type: 'pkcs8', format: 'pem' }), minVersion: 'TLSv1.2' });
    return true;
  } catch {
    return false;
  }
}

const sameNames = (one: readonly string[], other: readonly string[]): boolean => [...one].sort().join() === [...other].sort().join();

/** The kept certificate that a name is answered with; null for a name that somebody asked for and that has none yet. */
function requireKept(context: CertificateDeps, text: string): { name: string; held: HeldCertificate | null; row: number | null } {
  const name = requireName(context, text);
  const held = context.certificates.for(name) ?? null;
  if (held && held.row !== null) return { name, held, row: held.row };
  if (!held && isAskedFor(context, name)) return { name, held, row: null };
  throw new Problem(
    held ? 'in-use' : 'not-found',
    held ? `The certificate of ${name} is not kept here: it is ${held.id}.` : `There is no certificate for ${name}.`,
    'List them: tenedor certificate list',
  );
}

/** Neither the host’s name nor a domain’s: somebody wanted it. */
const isAskedFor = ({ db, host }: CertificateDeps, name: string): boolean =>
  name !== host.name && store.findCertificateName(db, name)?.domainId === null;

export function certificateRemoval(context: CertificateDeps, text: string): Removal {
  const { name, held } = requireKept(context, text);
  const others = (held?.names ?? []).filter((one) => one !== name);
  return {
    goes: [...(held ? ['its key, for good'] : []), ...sameFor(others)],
    stays: [
      isAskedFor(context, name)
        ? 'what the host shows, to who asks for this name'
        : 'the name: it is answered with the best of the others, or the host’s, until another is fetched or added',
    ],
  };
}

const MOST_LINES = 20;
const sameFor = (names: readonly string[]): string[] => [
  ...names.slice(0, MOST_LINES).map((one) => `the certificate of ${one}, which is the same`),
  ...(names.length > MOST_LINES ? [`and that of ${names.length - MOST_LINES} more names`] : []),
];

/** Forgets the kept certificate that a name is answered with; a name that somebody asked for is wanted no more. */
export async function removeCertificate(context: CertificateDeps, text: string): Promise<void> {
  const { db, clock } = context;
  const { name, held, row } = requireKept(context, text);
  await db.commit(() => {
    if (isAskedFor(context, name)) store.removeCertificateName(db, name);
    if (held === null || row === null) return;
    store.removeCertificate(db, row);
    addEntry(db, { at: clock.now(), journeyId: null, domain: null, event: 'certificate-removed', data: { names: held.names } });
  });
}
