import type { Command } from 'commander';
import type { CheckReport, CheckSummary, Finding, HostReport, RecordSheet, SheetRecord } from '../api/schemas.ts';
import { type ApiClient, CommandError, EXIT, part } from './client.ts';
import { bold, count, dim, facts, type Json, mark, safe, show, table } from './output.ts';

const INDENT = '     ';

/** Lines under one another, each after the first set in by as much as the name. */
function block(name: string, lines: string[]): string[] {
  return lines.map((line, at) => `${INDENT}${dim((at === 0 ? name : '').padEnd(9))}${safe(line)}`);
}

function publishLines(record: SheetRecord): string[] {
  return [
    ...block('type', [record.type]),
    ...block('name', [record.name]),
    ...(record.relativeName === null ? [] : block('', [`${record.relativeName}   (in a form that appends the zone by itself)`])),
    ...block('value', [record.value]),
  ];
}

const subjectName = (subject: Finding['subject']): string => (subject === 'reverse' ? 'reverse' : subject.toUpperCase());

function findingLines(one: Finding): string[] {
  const head = `  ${mark(one.verdict)}${' '.repeat(9 - one.verdict.length)}${bold(subjectName(one.subject).padEnd(8))}${safe(one.headline)}`;
  if (one.verdict === 'good') return [head];
  const publishes = one.publish.map((record) => record.value);
  const expected = one.expected.filter((line) => !publishes.includes(line));
  return [
    head,
    ...block('at', [one.name]),
    ...(expected.length > 0 && one.subject !== 'reverse' ? block('expected', expected) : []),
    ...block('seen', one.seen.length > 0 ? one.seen : ['nothing']),
    ...block('why', [one.why]),
    ...(one.remedy === '' ? [] : block('do', [`${one.remedy}${one.worth > one.earned ? ` (+${one.worth - one.earned} readiness)` : ''}`])),
    ...one.publish.flatMap(publishLines),
    '',
  ];
}

function reportText(report: CheckReport): string {
  const ready = report.readiness === null ? 'readiness unknown' : `readiness ${report.readiness} of 100`;
  return [`${bold(report.domain)}   role ${report.role}   ${ready}`, '', ...report.findings.flatMap(findingLines)].join('\n').trimEnd();
}

function summaryText(summary: CheckSummary): string {
  const cell = (domain: CheckSummary['domains'][number], subject: Finding['subject']) =>
    mark(domain.findings.find((one) => one.subject === subject)?.verdict ?? null);
  const verdicts = Object.entries(summary.verdicts).map(([verdict, number]) => `${number} ${verdict}`);
  const bad = summary.domains.filter((one) => !one.good);
  return [
    table(
      ['domain', 'role', 'readiness', 'MX', 'SPF', 'DKIM', 'DMARC', 'reverse'],
      summary.domains.map((one) => [
        one.domain,
        one.role,
        one.readiness,
        ...(['mx', 'spf', 'dkim', 'dmarc', 'reverse'] as const).map((subject) => cell(one, subject)),
      ]),
    ),
    '',
    `${count(summary.domains.length, 'domain')}: ${verdicts.join(', ') || 'nothing to check'}`,
    ...bad.flatMap((one) => [
      '',
      bold(one.domain),
      ...one.findings
        .filter((found) => found.verdict !== 'good')
        .map(
          (found) =>
            `  ${mark(found.verdict)}${' '.repeat(9 - found.verdict.length)}${subjectName(found.subject).padEnd(8)}${safe(found.headline)}`,
        ),
    ]),
    '',
    ...(bad.length > 0 ? [dim(`What to do about one: tenedor check ${bad[0]?.domain}`)] : []),
    ...(summary.leftOut.length > 0 ? [dim(`Left out, their role is not served yet: ${summary.leftOut.join(', ')}`)] : []),
  ].join('\n');
}

const SECTIONS: { where: SheetRecord['where']; title: (domain: string) => string }[] = [
  { where: 'domain', title: (domain) => `In the zone ${domain}` },
  { where: 'host', title: () => 'In the host’s own zone' },
  { where: 'address-owner', title: () => 'From whoever holds the address block, by request' },
];

function sheetText(sheet: RecordSheet): string {
  const lines: string[] = [];
  for (const { where, title } of SECTIONS) {
    const records = sheet.records.filter((record) => record.where === where);
    if (records.length === 0) continue;
    lines.push(bold(title(sheet.domain)), '');
    for (const { type, name, relativeName, value } of records) {
      const short = relativeName === null ? '' : `   ${dim('in a form:')} ${relativeName}`;
      lines.push(`  ${type.padEnd(5)} ${name}${short}`, `        ${value}`, '');
    }
  }
  lines.push(
    dim(`“in a form” is the name for DNS forms that append the zone by themselves. As a zone file: tenedor records ${sheet.domain} --zone`),
  );
  return lines.join('\n');
}

export function recordCommands(program: Command, client: ApiClient, json: Json): void {
  program
    .command('records <domain>')
    .description('the record sheet: what the domain should publish')
    .option('--zone', 'as an RFC 1035 zone file')
    .action(async (domain: string, options: { zone?: true }) => {
      const sheet = await client.get<RecordSheet>(`/domains/${part(domain)}/records`);
      if (options.zone && !json()) process.stdout.write(sheet.zone);
      else show(json, sheet, sheetText);
    });
  program
    .command('check [domains...]')
    .description('look at what is published, and say what is wrong and what to do')
    .option('--all', 'every domain')
    .action(async (domains: string[], options: { all?: true }) => {
      if (options.all === true && domains.length > 0)
        throw new CommandError(EXIT.usage, 'Both domains and --all were given.', 'Use one or the other.');
      if (options.all) {
        if (process.stderr.isTTY) process.stderr.write('Checking every domain …\r');
        const summary = await client.post<CheckSummary>('/checks');
        if (process.stderr.isTTY) process.stderr.write(`${' '.repeat(30)}\r`);
        show(json, summary, summaryText);
        if (summary.domains.some((one) => !one.good)) process.exitCode = EXIT.notGood;
        return;
      }
      if (domains.length === 0) throw new CommandError(EXIT.usage, 'No domain was named.', 'Name one or more, or use --all.');
      const reports: CheckReport[] = [];
      for (const domain of domains) reports.push(await client.post<CheckReport>(`/domains/${part(domain)}/check`));
      show(json, reports.length === 1 ? reports[0] : reports, () => reports.map(reportText).join('\n\n'));
      if (reports.some((report) => !report.good)) process.exitCode = EXIT.notGood;
    });
  const host = program.command('host').description('the host itself');
  host
    .command('show')
    .description('name, addresses and records of the host, and its reverse DNS as it is now')
    .action(async () => {
      const report = await client.get<HostReport>('/host');
      show(json, report, (one) =>
        [
          facts([
            ['host', bold(one.name)],
            ['addresses', one.addresses.join(', ')],
            ['postmaster', one.postmaster],
          ]),
          '',
          ...findingLines(one.reverse),
        ]
          .join('\n')
          .trimEnd(),
      );
      if (report.reverse.verdict !== 'good') process.exitCode = EXIT.notGood;
    });
}
