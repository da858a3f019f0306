import type { Command } from 'commander';
import type { CertificateName, PortCheck } from '../api/certificate-schemas.ts';
import { ORDERS } from '../core/vocabulary.ts';
import { type ApiClient, part } from './client.ts';
import { EXIT } from './errors.ts';
import { block } from './findings.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { readNamedFile } from './named-file.ts';
import { bold, dim, facts, type Json, mark, safe, show, stamp, table, time, zoned } from './output.ts';
import { remove } from './removal.ts';

const SOURCES = {
  file: 'a file on this machine',
  added: 'added',
  fetched: 'fetched, renewed automatically',
  'self-signed': 'self-signed',
} as const;

const day = (ms: number | null): string => (ms === null ? '' : time(ms).slice(0, 10));

/** What it is for; of many names the first. */
const namesText = ({ names, nameCount }: NonNullable<CertificateName['certificate']>): string =>
  safe(names.join(', ')) + (nameCount > names.length ? ` and ${(nameCount - names.length).toLocaleString('en')} more` : '');

const nameText = (one: CertificateName): string =>
  [
    facts([
      ['name', `${bold(safe(one.name))}   ${mark(one.verdict)}`],
      ['asked for by', one.domain === null ? 'this host' : `the people of ${one.domain}`],
      ...(one.certificate
        ? ([
            ['certificate', `${SOURCES[one.certificate.source]} (${safe(one.certificate.place)})`],
            ['of', safe(one.certificate.issuer)],
            ['for', namesText(one.certificate)],
            ['valid', `${day(one.certificate.from)} to ${day(one.certificate.until)}`],
            ['key', one.certificate.key],
            ['SHA-256', one.certificate.fingerprint],
          ] as [string, string][])
        : ([['certificate', 'none: clients get the host’s certificate']] as [string, string][])),
      ...(one.next === '' ? [] : ([['next', `${one.next}${one.nextAt === null ? '' : ` ${stamp(one.nextAt)}`}`]] as [string, string][])),
    ]),
    ...one.findings.flatMap((finding) => [
      '',
      `  ${mark(finding.verdict)}  ${safe(finding.text)}`,
      ...block('code', [finding.code]),
      ...(finding.action === '' ? [] : block('do', [finding.action])),
    ]),
  ].join('\n');

const isBad = (one: PortCheck['checked'][number]): boolean =>
  one.failure !== null || one.findings.some((finding) => finding.verdict !== 'good');

function checkText({ checked }: PortCheck): string {
  const looks = checked.reduce((sum, one) => sum + one.ports.length, 0);
  const bad = checked.filter(isBad).reduce((sum, one) => sum + one.ports.length, 0);
  const whole = Math.max(
    ...checked.map((one) => checked.filter(({ name }) => name === one.name).reduce((sum, { ports }) => sum + ports.length, 0)),
  );
  const rows = [...checked]
    .sort((one, other) => Number(isBad(other)) - Number(isBad(one)))
    .map((one) => [
      safe(one.name),
      one.ports.length === whole ? `all ${whole} ports` : one.ports.map(({ service, port }) => `${service} ${port}`).join(', '),
      one.failure === null
        ? safe(one.shown.slice(0, 2).join(', ')) + (one.shown.length > 2 ? ` and ${one.shown.length - 2} more` : '')
        : dim('nothing'),
      day(one.until),
      one.failure === null
        ? `${mark(one.findings[0]?.verdict ?? 'unknown')} ${safe(one.findings[0]?.text ?? '')}`
        : `${mark('wrong')} ${safe(one.failure)}`,
    ]);
  return [
    table(['asked for', 'at', 'shown', 'until', 'seen'], rows),
    bad === 0 ? `All ${looks} checks passed.` : `${bad} of ${looks} checks failed.`,
  ].join('\n');
}

export function certificateCommands(program: Command, client: ApiClient, json: Json): void {
  const certificate = program.command('certificate').description('certificates, by host name');
  certificate
    .command('list')
    .description('list host names with their certificates and next renewals')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.certificates))
    .addOption(reverseOption())
    .action(async (options: ListOptions) =>
      showList<CertificateName>(json, client, '/certificates', options, (all) =>
        table(
          ['name', 'certificate', 'until', zoned('next'), 'state'],
          all.map((one) => [
            safe(one.name),
            one.certificate
              ? `${one.certificate.source}${one.certificate.source === 'self-signed' ? '' : dim(` (${safe(one.certificate.issuer)})`)}`
              : dim('none'),
            day(one.certificate?.until ?? null),
            one.next === '' ? '' : `${one.next}${one.nextAt === null ? '' : ` ${time(one.nextAt).slice(0, 16)}`}`,
            one.verdict === 'good' ? mark('good') : `${mark(one.verdict)} ${safe(one.findings[0]?.text ?? '')}`,
          ]),
        ),
      ),
    );
  certificate
    .command('show <name>')
    .description('show show the certificate of a host name, and its problems')
    .action(async (name: string) => show(json, await client.get<CertificateName>(`/certificates/${part(name)}`), nameText));
  certificate
    .command('add')
    .description('add a certificate and its key')
    .requiredOption('--certificate <file>', 'PEM: the certificate, then its intermediates')
    .requiredOption('--key <file>', 'PEM, without a passphrase')
    .action(async (options: { certificate: string; key: string }) =>
      show(
        json,
        await client.post<{ names: CertificateName[] }>('/certificates', {
          certificate: readNamedFile(options.certificate),
          key: readNamedFile(options.key),
        }),
        ({ names }) => names.map(nameText).join('\n\n'),
      ),
    );
  certificate
    .command('fetch <name>')
    .description('fetch a certificate from the authority now')
    .action(async (name: string) => show(json, await client.post<CertificateName>(`/certificates/${part(name)}/fetch`, {}), nameText));
  certificate
    .command('check [name]')
    .description('connect to each port and inspect the certificate that clients see')
    .action(async (name: string | undefined) => {
      const served = await client.post<PortCheck>('/certificates/check', { name: name ?? null });
      show(json, served, checkText);
      if (served.checked.some(isBad)) process.exitCode = EXIT.notGood;
    });
  certificate
    .command('remove <name>')
    .description('remove a certificate; a name that needs one gets another')
    .option('--yes', 'do not ask')
    .action(async (name: string, options: { yes?: true }) => {
      await remove(client, `/certificates/${part(name)}`, name, options);
      show(json, {}, () => `The certificate of ${safe(name)} is removed.`);
    });
}
