import { DNS_LETTER } from '../../texts/en/letters.ts';
import type { SheetRecord } from '../records/sheet.ts';
import { type Finding, needsWork } from './finding.ts';

/** What is to be sent to whoever runs a domain's DNS. */
export interface Letter {
  subject: string;
  text: string;
  /** What is to be changed: MX, SPF … */
  about: string[];
}

const SUBJECTS: Partial<Record<Finding['subject'], string>> = {
  mx: 'MX',
  spf: 'SPF',
  dkim: 'DKIM',
  dmarc: 'DMARC',
  discovery: 'SRV',
};
const VALUE_WIDTH = 72;
/** RFC 1035 §3.3 */
const LONGEST_STRING = 255;

/**
 * The work that a domain's own DNS needs, in words for whoever types it in; null when there is none. What is the host's to do, or the
 * administrator's, is left out, and so is what only has to be waited for.
 */
export function customerLetter(domain: string, findings: readonly Finding[]): Letter | null {
  const steps = stepsOf(findings);
  if (steps.length === 0) return null;
  return {
    about: [...new Set(steps.map(({ about }) => about))],
    subject: DNS_LETTER.subject(domain, steps.length),
    text: [
      ...DNS_LETTER.before(domain, steps.length),
      ...steps.flatMap(({ text }, at) => ['', `${at + 1}. ${text}`]),
      ...DNS_LETTER.after,
    ].join('\n'),
  };
}

/** One step for each set of records to type; what else was found about them stands with it. */
function stepsOf(findings: readonly Finding[]): { about: string; text: string }[] {
  const groups = new Map<string, { about: string; heads: string[]; remedy: string; records: SheetRecord[] }>();
  for (const one of findings) {
    const title = SUBJECTS[one.subject];
    const records = one.publish.filter((record) => record.where === 'domain');
    const changes = records.some((record) => !one.seen.includes(record.value));
    const remedy = one.forCustomer ?? '';
    const isElsewhere = records.length === 0 && one.publish.length > 0;
    // What is typed already, and nothing else beside it, is no work.
    const isSomethingElseThere = one.seen.some((value) => !records.some((record) => record.value === value));
    const isTheirs = changes || (remedy !== '' && !isElsewhere && (records.length === 0 || isSomethingElseThere));
    if (title === undefined || !needsWork(one) || !isTheirs) continue;
    const key = records.length === 0 ? one.code : records.map(({ type, name, value }) => `${type} ${name} ${value}`).join('\n');
    const group = groups.get(key);
    if (group) group.heads.push(one.headline);
    else groups.set(key, { about: title, heads: [`${title}: ${one.headline}`], remedy, records: changes ? records : [] });
  }
  return [...groups.values()].map(({ about, heads, remedy, records }) => ({
    about,
    text: [heads.join('\n   '), ...(remedy === '' ? [] : [`   ${remedy}`]), ...records.flatMap(recordLines)].join('\n'),
  }));
}

function recordLines({ type, name, relativeName, value, quoted }: SheetRecord): string[] {
  const [number, host] = type === 'MX' ? value.split(' ') : [];
  const short = relativeName === null || relativeName === name ? name : `${relativeName}   (${DNS_LETTER.fullName(name)})`;
  return [
    '',
    labelled(WORDS.type, type),
    labelled(WORDS.name, short),
    ...(number === undefined ? [] : [`${labelled(WORDS.number, number)}   (${DNS_LETTER.numberNames})`]),
    ...(host === undefined ? valueLines(value) : [labelled(WORDS.value, host)]),
    ...(value.length > LONGEST_STRING && quoted !== null ? [`     ${DNS_LETTER.inStrings}`, quoted] : []),
  ];
}

/** A long value is on a line of its own, so that it can be copied whole. */
const valueLines = (value: string): string[] =>
  value.length <= VALUE_WIDTH ? [labelled(WORDS.value, value)] : [`     ${WORDS.value}`, value];

const WORDS = DNS_LETTER.fields;
const WIDTH = Math.max(...Object.values(WORDS).map((one) => one.length)) + 1;
function labelled(word: string, text: string): string {
  return `     ${word.padEnd(WIDTH)}${text}`;
}
