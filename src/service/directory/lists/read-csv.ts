import { CsvError, parse } from 'csv-parse/sync';
import type { ListName } from '../../../core/vocabulary.ts';
import { Problem } from '../../base/problem.ts';

/** What is wrong with a line of a list. */
export interface ListFault {
  list: ListName;
  line: number;
  text: string;
}

/** Rows that are looked at in one turn. */
export const A_TURN = 500;

export interface CsvRow {
  line: number;
  values: Record<string, string>;
}

/** The columns of a list; the first is the one that has to be there. */
export interface ListForm {
  list: ListName;
  columns: readonly [string, ...string[]];
  mostRows: number;
}

/** Reads a list (RFC 4180) with its heading, in any case and order of columns. What is no list of that form is one fault. */
export function readCsv(csv: string, { list, columns, mostRows }: ListForm): { rows: CsvRow[]; faults: ListFault[] } {
  const faulty = (line: number, text: string): { rows: CsvRow[]; faults: ListFault[] } => ({ rows: [], faults: [{ list, line, text }] });
  let records: { record: Record<string, string>; info: { lines: number } }[];
  try {
    records = parse(csv, {
      columns: (names: string[]) => names.map((one) => one.trim().toLowerCase()),
      bom: true,
      // Spreadsheets of many countries write semicolons, and some write tabs.
      delimiter: delimiterOf(csv),
      trim: true,
      skip_empty_lines: true,
      info: true,
    });
  } catch (error) {
    if (!(error instanceof CsvError)) throw error;
    return faulty(Number((error as { lines?: number }).lines ?? 1), `This is not CSV: ${error.message.replace(/ on line \d+.*$/, '')}.`);
  }
  const [first] = records;
  if (!first) return faulty(1, `The list is empty. Its first line names the columns: ${columns.join(',')}`);
  const unknown = Object.keys(first.record).find((one) => !columns.includes(one));
  if (unknown !== undefined) return faulty(1, `There is no column “${unknown.slice(0, 40)}”; there are ${columns.join(', ')}.`);
  if (!(columns[0] in first.record)) return faulty(1, `The column ${columns[0]} is missing.`);
  if (records.length > mostRows) return faulty(mostRows + 2, `A list has at most ${mostRows.toLocaleString('en')} ${list}.`);
  return { rows: records.map(({ record, info }) => ({ line: info.lines, values: record })), faults: [] };
}

/** What parts the names in the heading. */
function delimiterOf(csv: string): string {
  const end = csv.indexOf('\n');
  const heading = end < 0 ? csv : csv.slice(0, end);
  return [',', ';', '\t'].find((one) => heading.includes(one)) ?? ',';
}

/** Does something that says no by a problem; null then, and the fault is told. */
export function told<T>(read: () => T, fault: (text: string) => void): T | null {
  try {
    return read();
  } catch (error) {
    if (!(error instanceof Problem)) throw error;
    fault(error.detail);
    return null;
  }
}
