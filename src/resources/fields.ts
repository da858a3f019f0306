/**
 * What of a thing can be set, as plain data: from it come its type, its shape in the API, its option on the command line, its control in the
 * console, and its column. Nothing here is computed; what each face makes of a field stands with that face.
 */

/** What a field holds. */
type Kind =
  /** One of some words. */
  | { kind: 'choice'; of: readonly string[] }
  | { kind: 'yes-no' }
  /** A size in octets, or none unless it is needed; typed in the console in this unit. */
  | { kind: 'size'; unit: 'MiB' | 'GiB'; least: number; most: number; isNeeded?: true }
  /** A whole number from 1 on, or none unless it is needed. */
  | { kind: 'count'; most: number; isNeeded?: true }
  /** Words, or none. */
  | { kind: 'words' };

export type Field = Kind & {
  /** As it is called over its control, and what is said below that. */
  label: string;
  hint?: string;
  /** In the API's document, where its name does not say it. */
  about?: string;
  /** On the command line: `--largest <size>`, and what it does; none where another option says it. */
  option?: string;
  help?: string;
  /** What a new thing begins with. */
  start?: string | number | boolean;
  /** What stands there for none. */
  none?: string;
  /** As the journal calls it, where that is not its label. */
  called?: string;
};
export type Fields = Readonly<Record<string, Field>>;

/** What a field's value may be. */
export type ValueOf<One extends Field> = One extends { kind: 'choice'; of: readonly (infer Word)[] }
  ? Word
  : One extends { kind: 'yes-no' }
    ? boolean
    : One extends { kind: 'words' }
      ? string | null
      : One extends { isNeeded: true }
        ? number
        : number | null;

/** The values of all fields of a thing. */
export type ValuesOf<All extends Fields> = { -readonly [Name in keyof All]: ValueOf<All[Name]> };
/** Some of them, to be changed. */
export type ChangesOf<All extends Fields> = { [Name in keyof All]?: ValueOf<All[Name]> | undefined };

export const namesOf = <All extends Fields>(fields: All): (keyof All & string)[] => Object.keys(fields);

/** What a new thing begins with. */
export const startOf = <All extends Fields>(fields: All): ValuesOf<All> =>
  Object.fromEntries(Object.entries(fields).map(([name, { start = null }]) => [name, start])) as ValuesOf<All>;

/** What the values are after some changes. */
export function withChanges<All extends Fields>(fields: All, before: ValuesOf<All>, changes: ChangesOf<All>): ValuesOf<All> {
  const after = {} as ValuesOf<All>;
  for (const name of namesOf(fields)) after[name] = (changes[name] === undefined ? before[name] : changes[name]) as never;
  return after;
}
