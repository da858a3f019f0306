import type { SheetRecord } from './sheet.ts';

/** A text as quoted strings of at most 255 octets (RFC 1035 §3.3.14); they are read back joined without a space. */
export function quotedStrings(text: string): string {
  const pieces = text.match(/[\s\S]{1,255}/g) ?? [''];
  return pieces.map((piece) => `"${piece.replace(/(["\\])/g, '\\$1')}"`).join(' ');
}

/** The record's data in master file form (RFC 1035 §5.1): names end with a dot, texts are quoted. */
export function zoneData(record: SheetRecord): string {
  if (record.type === 'TXT') return quotedStrings(record.value);
  if (record.type === 'A' || record.type === 'AAAA') return record.value;
  return `${record.value}.`;
}

const TTL = 3600;
const line = (name: string, record: SheetRecord): string => `${name.padEnd(28)} ${TTL} IN ${record.type.padEnd(5)} ${zoneData(record)}`;

/** The sheet as an RFC 1035 master file for the domain's zone; what other zones publish stands in comments. */
export function zoneFile(domain: string, sheet: readonly SheetRecord[]): string {
  const own = sheet.filter((record) => record.where === 'domain');
  const others = sheet.filter((record) => record.where !== 'domain');
  return [
    `; ${domain}: records for mail`,
    `$ORIGIN ${domain}.`,
    ...own.map((record) => line(record.relativeName ?? '@', record)),
    '; Published in other zones:',
    ...others.map((record) => `; ${line(`${record.name}.`, record)}`),
    '',
  ].join('\n');
}
