import { z } from 'zod';
import { CERTIFICATE_SOURCES } from '../core/vocabulary.ts';
import { at, text } from './base-schemas.ts';
import { verdict } from './dns-schemas.ts';

/** Shapes of certificates, by the names that clients connect to. */

const certificateFinding = z.object({
  code: z.string(),
  verdict,
  text: z.string(),
  action: z.string().meta({ description: 'What to do; empty if nothing' }),
});
export const certificateName = z
  .object({
    name: z.string(),
    domain: z.string().nullable().meta({ description: 'The domain whose clients use it; null for the host’s name and requested names' }),
    verdict,
    findings: z.array(certificateFinding),
    certificate: z
      .object({
        source: z.enum(CERTIFICATE_SOURCES),
        place: z.string().meta({ description: 'Its path' }),
        names: z.array(z.string()).meta({ description: 'The first twenty' }),
        nameCount: z.int(),
        issuer: z.string(),
        from: at,
        until: at,
        key: z.string(),
        fingerprint: z.string(),
      })
      .nullable()
      .meta({ description: 'Its certificate; null if none, when clients get the host’s' }),
    next: z.string().meta({ description: 'The next step; empty if none' }),
    nextAt: at.nullable(),
  })
  .meta({ id: 'CertificateName' });
export type CertificateName = z.output<typeof certificateName>;
export const certificateNames = z.object({ names: z.array(certificateName) });

const MOST = 100_000;
const TOO_LONG = `at most ${MOST.toLocaleString('en')} characters: enough for about two thousand names`;
export const newCertificate = z.strictObject({
  certificate: z.string('PEM').max(MOST, TOO_LONG).meta({ description: 'PEM: the certificate, then its intermediates' }),
  key: z
    .string('PEM')
    .max(MOST, `at most ${MOST.toLocaleString('en')} letters`)
    .meta({ description: 'PEM, without a passphrase' }),
});
export const portCheckInput = z.strictObject({ name: text.nullable().default(null) });
export const portCheck = z.object({
  checked: z.array(
    z.object({
      name: z.string(),
      ports: z.array(z.object({ service: z.string(), port: z.int() })).meta({ description: 'Ports with the same result' }),
      shown: z.array(z.string()).meta({ description: 'Names of the served certificate' }),
      until: at.nullable(),
      findings: z.array(certificateFinding),
      failure: z.string().nullable().meta({ description: 'Why no certificate was served' }),
    }),
  ),
});
export type PortCheck = z.output<typeof portCheck>;
