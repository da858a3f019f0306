import { readFile, stat } from 'node:fs/promises';
import type { CertificateFile } from '../service/certificates/held-certificates.ts';
import { CertificateError, type CertificatePaths, selfSigned } from './certificate.ts';

/** A certificate of files that others write and renew. */
export function certificateFile(paths: CertificatePaths, source: CertificateFile['source'] = 'file'): CertificateFile {
  return {
    id: paths.certificate,
    source,
    // Links are followed, so that a link to another file counts as a change too.
    state: async () => {
      try {
        const both = await Promise.all([stat(paths.certificate), stat(paths.key)]);
        return both.map((one) => `${one.ino} ${one.size} ${one.mtimeMs}`).join(' ');
      } catch {
        return null;
      }
    },
    read: async () => ({ pem: await readFile(paths.certificate, 'utf8'), key: await readFile(paths.key, 'utf8') }),
  };
}

/** The one that this host has signed itself: for as long as there is nothing better. */
export async function selfSignedFile(directory: string, hostName: string): Promise<CertificateFile> {
  const paths = await selfSigned(directory, hostName).catch((error: unknown) => {
    throw new CertificateError(`The certificate of ${hostName} can’t be made in ${directory}: ${(error as Error).message}.`);
  });
  return certificateFile(paths, 'self-signed');
}
