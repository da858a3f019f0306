import { relativeTo, type SheetRecord } from './sheet.ts';

/** The record's data in master file form (RFC 1035 §5.1): names end with a dot, texts are quoted. */
export function zoneData(record: SheetRecord): string {
  if (record.quoted !== null) return record.quoted;
  return record.type === 'A' || record.type === 'AAAA' ? record.value : `${record.value}.`;
}

export const SHEET_TTL = 3600;
const line = (name: string, record: SheetRecord): string =>
  `${name.padEnd(28)} ${SHEET_TTL} IN ${record.type.padEnd(5)} ${zoneData(record)}`;

/** The sheet as an RFC 1035 master file for the domain's zone; what other zones publish stands in comments. */
export function zoneFile(domain: string, sheet: readonly SheetRecord[]): string {
  const own = sheet.filter((record) => record.where === 'domain');
  const others = sheet.filter((record) => record.where !== 'domain');
  return [
    `; ${domain}: records for mail`,
    `$ORIGIN ${domain}.`,
    ...own.map((record) => line(relativeTo(record.name, domain), record)),
    '; Published in other zones:',
    ...others.map((record) => `; ${line(`${record.name}.`, record)}`),
    '',
  ].join('\n');
}
