import type { CheckReport, CheckRun, DomainLetter, Finding, FindingChange, SheetRecord } from '../api/dns-schemas.ts';
import { SUBJECT_WORDS, SUBJECTS } from '../core/vocabulary.ts';
import { bold, count, dim, duration, facts, mark, safe, stamp, table } from './output.ts';

const INDENT = '     ';
type Summary = NonNullable<CheckRun['summary']>;

/** Lines under one another, each after the first set in by as much as the name. */
export function block(name: string, lines: string[]): string[] {
  return lines.map((line, at) => `${INDENT}${dim((at === 0 ? name : '').padEnd(9))}${safe(line)}`);
}

/** A record in the forms that DNS tools ask for. */
export function recordLines(record: SheetRecord): string[] {
  return [
    ...block('type', [record.type]),
    ...block('name', [record.name]),
    ...(record.relativeName === null ? [] : block('', [`${record.relativeName}   (in a form that appends the zone)`])),
    ...block('value', [record.value]),
    ...(record.quoted !== null && record.value.length > 255 ? block('quoted', [record.quoted]) : []),
  ];
}

export const findingHead = (one: { subject: Finding['subject']; verdict: Finding['verdict']; headline: string }): string =>
  `  ${mark(one.verdict)}${' '.repeat(9 - one.verdict.length)}${bold(SUBJECT_WORDS[one.subject].padEnd(14))}${safe(one.headline)}`;

export function findingLines(one: Finding, evidence: boolean): string[] {
  const asked = evidence ? evidenceLines(one) : [];
  if (one.verdict === 'good') return [findingHead(one), ...asked, ...(evidence ? [''] : [])];
  const publishes = one.publish.map((record) => record.value);
  const expected = one.expected.filter((line) => !publishes.includes(line));
  return [
    findingHead(one),
    ...block('code', [one.code]),
    ...block('at', [one.name]),
    ...(expected.length > 0 && one.subject !== 'reverse' && one.subject !== 'host' ? block('expected', expected) : []),
    ...block('seen', one.seen.length > 0 ? one.seen : ['nothing']),
    ...(one.secondsLeft === null ? [] : block('left', [`${duration(one.secondsLeft)}, at most`])),
    ...block('why', [one.why]),
    ...(one.remedy === '' ? [] : block('do', [`${one.remedy}${one.worth > one.earned ? ` (+${one.worth - one.earned} readiness)` : ''}`])),
    ...one.publish.flatMap(recordLines),
    ...asked,
    '',
  ];
}

function evidenceLines({ evidence }: Finding): string[] {
  return block(
    'asked',
    evidence.map(({ by, type, name, answer, ttl }) => `${by}: ${type} ${name} → ${answer}${ttl === null ? '' : ` (kept ${ttl} s)`}`),
  );
}

export function reportText(report: CheckReport, evidence: boolean): string {
  const ready = report.readiness === null ? 'readiness unknown' : `readiness ${report.readiness} of 100`;
  const head = `${bold(report.domain)}   role ${report.role}   ${ready}`;
  return [head, '', ...report.findings.flatMap((one) => findingLines(one, evidence))].join('\n').trimEnd();
}

export function summaryText(summary: Summary): string {
  const cell = (domain: Summary['domains'][number], subject: Finding['subject']) =>
    mark(domain.findings.find((one) => one.subject === subject)?.verdict ?? null);
  const verdicts = Object.entries(summary.verdicts).map(([verdict, number]) => `${number} ${verdict}`);
  const bad = summary.domains.filter((one) => !one.good);
  return [
    table(
      ['domain', 'role', 'readiness', ...SUBJECTS.map((subject) => SUBJECT_WORDS[subject])],
      summary.domains.map((one) => [one.domain, one.role, one.readiness, ...SUBJECTS.map((subject) => cell(one, subject))]),
    ),
    '',
    `${count(summary.domains.length, 'domain')}: ${verdicts.join(', ') || 'nothing to check'}`,
    ...bad.flatMap((one) => ['', bold(one.domain), ...one.findings.filter((found) => found.verdict !== 'good').map(findingHead)]),
    '',
    bold('Changed since the last time'),
    ...(summary.changes.length === 0 ? [dim('  nothing')] : []),
    ...summary.changes.map(
      (one) =>
        `  ${one.domain ?? 'the host'}: ${SUBJECT_WORDS[one.subject]} ${one.before ?? 'not known'} → ${mark(one.verdict)}  ${safe(one.headline)}`,
    ),
    '',
    ...(bad.length > 0 ? [dim(`Findings and fixes: tenedor check ${bad[0]?.domain}`)] : []),
  ]
    .join('\n')
    .trimEnd();
}

/** A letter with whom it is for; it can be sent as it is. */
export function letterText({ domain, customer, contact, letter, unknown }: DomainLetter): string {
  const gap = unknown.length === 0 ? '' : `No name server answered about ${unknown.map((one) => SUBJECT_WORDS[one]).join(', ')}`;
  if (letter === null)
    return gap === ''
      ? `${bold(domain)}: no changes needed in its DNS.`
      : `${bold(domain)}: it is not known whether its DNS needs changes. ${gap}. ${dim(`Check it again: tenedor check ${domain}`)}`;
  return [
    facts([
      ['to', safe(contact === null ? customer : `${customer} <${contact}>`)],
      ['subject', safe(letter.subject)],
    ]),
    '',
    ...letter.text.split('\n').map(safe),
    ...(gap === '' ? [] : ['', dim(`${gap}: there may be more to change.`)]),
  ].join('\n');
}

export function historyText(title: string, rows: FindingChange[]): string {
  if (rows.length === 0) return `${bold(title)} has not been checked yet. ${dim(`Check it: tenedor check ${title}`)}`;
  return [
    bold(title),
    '',
    ...rows.map(
      (one) =>
        `${dim(`${stamp(one.at)}`)}  ${SUBJECT_WORDS[one.subject].padEnd(14)}${(one.beforeVerdict ?? 'first seen').padStart(10)} → ${mark(one.verdict)}${' '.repeat(9 - one.verdict.length)}${safe(one.headline)}`,
    ),
  ].join('\n');
}
