import { rootCertificates } from 'node:tls';
import { Roots } from '../core/certificates/chain.ts';
import { CertificateError } from '../net/certificate.ts';
import { certificateFile, selfSignedFile } from '../net/certificate-files.ts';
import type { Config } from '../service/app/config.ts';
import type { Clock, Log } from '../service/base/ports.ts';
import type { AuthorityDoor } from '../service/certificates/doors.ts';
import { HeldCertificates } from '../service/certificates/held-certificates.ts';
import type { Database } from '../store/database.ts';
import type { KeyFile } from '../store/key-file.ts';

/** All certificates at hand: of the files that the configuration names, of the database, and one of this host’s own where no file is named. Throws CertificateError. */
export async function holdCertificates(
  config: Config,
  parts: { db: Database; keyFile: KeyFile; clock: Clock; log: Log },
  trustedRoots: string | null,
): Promise<HeldCertificates> {
  const own = config.tls ? certificateFile(config.tls) : await selfSignedFile(config.data, config.host.name);
  const files = [own, ...config.certificate.map((one) => certificateFile(one))];
  const held = new HeldCertificates(parts, new Roots(trustedRoots === null ? rootCertificates : [trustedRoots]), files);
  await held.load().catch((error: unknown) => {
    throw new CertificateError((error as Error).message);
  });
  return held;
}

export async function authorityOf({ authority }: Config): Promise<AuthorityDoor | null> {
  if (!authority) return null;
  // Its client takes its time to load, and not every host has an authority.
  const { Authority } = await import('../net/authority.ts');
  return new Authority({
    directory: authority.directory,
    contact: authority.contact ?? null,
    trustedRoots: authority.trusted_roots ?? null,
    binding: authority.binding_id && authority.binding_key_file ? { id: authority.binding_id, keyFile: authority.binding_key_file } : null,
  });
}
