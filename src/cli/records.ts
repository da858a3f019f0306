import { type Command, Option } from 'commander';
import type { DomainLetter, LetterToWrite, Publication, PublicationOfAll, RecordSheet, SheetRecord } from '../api/dns-schemas.ts';
import { ALL_SUBJECTS, ORDERS } from '../core/vocabulary.ts';
import { confirm } from './ask.ts';
import { type ApiClient, part } from './client.ts';
import { CommandError, EXIT } from './errors.ts';
import { letterText } from './findings.ts';
import { type ListOptions, reverseOption, searchOption, showList, sortOption } from './lists.ts';
import { bold, count, dim, type Json, safe, say, show, styled, table, time, zoned } from './output.ts';

const SECTIONS: { where: SheetRecord['where']; title: (domain: string) => string }[] = [
  { where: 'domain', title: (domain) => `In the zone ${domain}` },
  { where: 'host', title: () => 'In the host’s own zone' },
  { where: 'address-owner', title: () => 'From the holder of the address block, on request' },
];

/** The four forms in which DNS tools ask for a record. */
const FORMS: Record<string, (record: SheetRecord) => string> = {
  name: (record) => record.name,
  'short-name': (record) => record.relativeName ?? record.name,
  value: (record) => record.value,
  quoted: (record) => record.quoted ?? record.value,
};

/** Longer values stand on a line of their own. */
const SHORT_VALUE = 72;

function sheetText(sheet: RecordSheet): string {
  const lines: string[] = [];
  for (const { where, title } of SECTIONS) {
    const records = sheet.records.filter((record) => record.where === where);
    if (records.length === 0) continue;
    const width = (texts: string[]): number => Math.max(...texts.map((text) => text.length));
    const names = width(records.map((record) => record.name));
    const short = width(records.map((record) => record.relativeName ?? ''));
    lines.push(
      bold(title(sheet.domain)) + (short > 0 ? dim(`${' '.repeat(Math.max(2, names + 10 - title(sheet.domain).length))}in a form`) : ''),
    );
    for (const { type, name, relativeName, value } of records) {
      const place = `  ${type.padEnd(6)}${name.padEnd(names)}${short > 0 ? `  ${(relativeName ?? '').padEnd(short)}` : ''}`;
      lines.push(
        value.length <= SHORT_VALUE ? `${place}  ${value}` : place.trimEnd(),
        ...(value.length <= SHORT_VALUE ? [] : [`        ${value}`]),
      );
    }
    lines.push('');
  }
  for (const note of sheet.notes) lines.push(safe(note));
  const { stage, next } = sheet.dmarc;
  if (next && !next.due) lines.push(`DMARC is at p=${stage}; the next stage is ${next.stage}: ${next.reason}.`);
  lines.push(
    '',
    dim(`Use the name under “in a form” where the DNS form appends the zone. For one value only: --record dkim --form quoted`),
    dim(
      `As a zone file: tenedor records ${sheet.domain} --zone${sheet.updates === null ? '' : `   Into the zone ${sheet.updates}: tenedor records publish ${sheet.domain}`}`,
    ),
  );
  return lines.join('\n');
}

function changeLines(publication: Publication): string[] {
  const { domain, zone, server, changes, published } = publication;
  if (changes.length === 0) return [`${bold(domain)}: the zone ${zone} is up to date.`];
  return [
    `${bold(domain)}: ${count(changes.length, 'change')} ${published ? 'made in' : 'to make in'} the zone ${zone} at ${server}`,
    ...changes.map(({ action, type, name, value }) =>
      styled(action === 'add' ? 'green' : 'red', `  ${action === 'add' ? '+' : '−'} ${type.padEnd(5)} ${name}  ${safe(value)}`),
    ),
  ];
}

function allText({ publications, failures, leftOut }: PublicationOfAll): string {
  return [
    ...publications.flatMap(changeLines),
    ...failures.map(({ domain, reason }) => `${bold(domain)}: ${styled('red', 'not changed')}: ${safe(reason)}`),
    ...(leftOut.length > 0 ? [dim(`Not published, because their zones are not updated from here: ${leftOut.join(', ')}`)] : []),
  ].join('\n');
}

export function recordCommands(program: Command, client: ApiClient, json: Json): void {
  const records = program
    .command('records [domain]')
    .description('the records that a domain should publish')
    .option('--zone', 'as an RFC 1035 zone file')
    .option('--request', 'the text of the request for reverse DNS')
    .option('--letter', 'a letter to the customer: what to change, ready to send')
    .addOption(new Option('--record <subject>', 'only these records').choices(ALL_SUBJECTS))
    .addOption(new Option('--form <form>', 'only the values, one per line, in this form').choices(Object.keys(FORMS)))
    .action(async (domain: string | undefined, options: { zone?: true; request?: true; letter?: true; record?: string; form?: string }) => {
      if (domain === undefined) throw new CommandError(EXIT.usage, 'No domain was named.', 'See: tenedor records --help');
      if (options.letter) {
        show(json, await client.get<DomainLetter>(`/domains/${part(domain)}/letter`), letterText);
        return;
      }
      const sheet = await client.get<RecordSheet>(`/domains/${part(domain)}/records`);
      const chosen = { ...sheet, records: sheet.records.filter((one) => options.record === undefined || one.subject === options.record) };
      const form = options.form === undefined ? undefined : FORMS[options.form];
      if (json()) show(json, chosen, sheetText);
      else if (options.zone) process.stdout.write(sheet.zone);
      else if (options.request) say(sheet.request);
      else if (form) for (const record of chosen.records) say(form(record));
      else say(sheetText(chosen));
    });
  records
    .command('letters')
    .description('who to contact: customers whose DNS needs changes, by the last checks')
    .addOption(searchOption())
    .addOption(sortOption(ORDERS.letters))
    .addOption(reverseOption())
    .action(async (options: ListOptions) =>
      showList<LetterToWrite>(json, client, '/letters', options, (all) =>
        all.length === 0
          ? 'No customer needs to change anything, by the last checks.'
          : `${table(
              ['customer', 'contact', 'domain', 'what to change', zoned('checked')],
              all.map((one) => [safe(one.customer), one.contact ?? '–', one.domain, one.about.join(', '), time(one.checkedAt)]),
            )}\n${dim('One letter: tenedor records DOMAIN --letter; all, after a new check: tenedor check --all --letter')}`,
      ),
    );
  records
    .command('publish [domain]')
    .description('publish the records by dynamic update (RFC 2136), where a zone is set')
    .option('--dry-run', 'only show the difference')
    .option('--all', 'every domain whose zone is set')
    .option('--yes', 'do not ask')
    .action(async (domain: string | undefined, options: { dryRun?: true; all?: true; yes?: true }) => {
      if ((domain === undefined) === (options.all === undefined))
        throw new CommandError(EXIT.usage, 'Either a domain or --all is needed.', 'See: tenedor records publish --help');
      const path = domain === undefined ? '/records/publish' : `/domains/${part(domain)}/records/publish`;
      const text = (result: Publication | PublicationOfAll): string =>
        'publications' in result ? allText(result) : changeLines(result).join('\n');
      const difference = await client.post<Publication | PublicationOfAll>(path, { dryRun: true });
      const changes =
        'publications' in difference
          ? difference.publications.reduce((sum, one) => sum + one.changes.length, 0)
          : difference.changes.length;
      if (options.dryRun || changes === 0) {
        show(json, difference, text);
        return;
      }
      if (!options.yes && !json()) process.stderr.write(`${text(difference)}\n`);
      await confirm(`This makes ${count(changes, 'change')}.`, options.yes);
      const done = await client.post<Publication | PublicationOfAll>(path, { dryRun: false });
      show(json, done, text);
      if ('failures' in done && done.failures.length > 0) process.exitCode = EXIT.refused;
    });
}
