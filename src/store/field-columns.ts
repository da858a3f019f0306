import { type Field, type Fields, namesOf, type ValuesOf } from '../resources/fields.ts';

/** A row as the database gives it: yes and no are numbers there. */
export type Columns<Row> = { [Name in keyof Row]: Row[Name] extends boolean ? number : Row[Name] };

const isYesNo = (field: Field | undefined): boolean => field?.kind === 'yes-no';

/** A row as everybody else knows it. */
export function fromColumns<Row extends object>(fields: Fields, row: Columns<Row>): Row {
  const known = { ...row } as Record<string, unknown>;
  for (const name of namesOf(fields)) if (isYesNo(fields[name]) && name in known) known[name] = known[name] === 1;
  return known as Row;
}

/** Values for `@names` of a statement. */
export const toColumns = <All extends Fields>(fields: All, values: ValuesOf<All>): Record<keyof All & string, string | number | null> =>
  Object.fromEntries(
    namesOf(fields).map((name) => [name, typeof values[name] === 'boolean' ? Number(values[name]) : values[name]]),
  ) as never;
