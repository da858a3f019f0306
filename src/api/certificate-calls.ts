import { ORDERS, VERDICTS } from '../core/vocabulary.ts';
import { addCertificate, certificateRemoval, removeCertificate } from '../service/certificates/change-certificates.ts';
import { checkServed } from '../service/certificates/check-served.ts';
import { fetchCertificate } from '../service/certificates/fetch-certificate.ts';
import { certificateRow, listNames } from '../service/certificates/name-rows.ts';
import { type Call, call, done, shortList } from './call.ts';
import * as c from './certificate-schemas.ts';
import * as s from './schemas.ts';

/** Calls about certificates, by the names that clients connect to. */
export const CERTIFICATE_CALLS: readonly Call[] = [
  shortList(
    '/certificates',
    'List host names for clients, with their certificates',
    c.certificateName,
    ORDERS.certificates,
    (one) => `${one.name} ${one.domain ?? ''} ${one.certificate?.issuer ?? ''} ${one.certificate?.source ?? ''} ${one.verdict}`,
    {
      // What is wrong first, then what is due next.
      due: (one) => (VERDICTS.indexOf(one.verdict) === 0 ? 1e15 : 0) + (one.nextAt ?? 1e14),
      name: (one) => one.name,
      domain: (one) => one.domain ?? '',
      until: (one) => one.certificate?.until ?? 0,
    },
    ({ context }) => listNames(context),
  ),
  call(
    'post',
    '/certificates',
    'Add a certificate with its key',
    { body: c.newCertificate, result: c.certificateNames },
    async ({ context, body }) => ({
      names: await addCertificate(context, body),
    }),
  ),
  call(
    'post',
    '/certificates/check',
    'Connect to each TLS port and inspect the certificate that clients see',
    { body: c.portCheckInput, result: c.portCheck },
    async ({ context, body }) => ({ checked: await checkServed(context, body.name) }),
  ),
  call('get', '/certificates/:name', 'Show a host name with its certificate', { result: c.certificateName }, ({ context, param }) =>
    certificateRow(context, param('name')),
  ),
  call(
    'post',
    '/certificates/:name/fetch',
    'Fetch a certificate from the authority now',
    { result: c.certificateName },
    ({ context, param }) => fetchCertificate(context, param('name')),
  ),
  call('get', '/certificates/:name/removal', 'What removing the certificate affects', { result: s.removal }, ({ context, param }) =>
    certificateRemoval(context, param('name')),
  ),
  call('delete', '/certificates/:name', 'Remove a host name’s certificate', { result: s.nothing }, ({ context, param }) =>
    done(removeCertificate(context, param('name'))),
  ),
];
