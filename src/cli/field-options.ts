import { type Command, Option } from 'commander';
import { type ChangesOf, type Field, type Fields, namesOf } from '../resources/fields.ts';
import { choice, NONE, numberOrNone, orNull, sizeOption, sizeOrNone, wholeNumber } from './numbers.ts';

function optionOf(field: Field): Option[] {
  return field.option === undefined ? [] : [parsedOption(field, field.option)];
}

function parsedOption(field: Field, option: string): Option {
  const { help = '', none = 'none' } = field;
  switch (field.kind) {
    case 'choice':
      return choice(option, help, field.of);
    case 'yes-no':
      return choice(option, help, ['yes', 'no']);
    case 'size':
      return new Option(option, help).argParser<number | typeof NONE>(field.isNeeded ? sizeOption : sizeOrNone);
    case 'count':
      return new Option(option, help).argParser<number | typeof NONE>(field.isNeeded ? wholeNumber : numberOrNone);
    case 'words':
      return new Option(option, help).argParser((text) => (text === none ? NONE : text));
  }
}

/** Gives a command an option for each field. */
export function addFieldOptions(command: Command, fields: Fields): Command {
  for (const option of Object.values(fields).flatMap(optionOf)) command.addOption(option);
  return command;
}

/** What the options of a command say of the fields, by their names in the API; and what else there is. */
export function changesFrom<All extends Fields>(
  fields: All,
  options: Readonly<Record<string, unknown>>,
): { changes: ChangesOf<All>; rest: Record<string, unknown> } {
  const rest = { ...options };
  const changes: ChangesOf<All> = {};
  for (const name of namesOf(fields)) {
    const { option } = fields[name] as Field;
    const given = option === undefined ? null : new Option(option).attributeName();
    if (given === null || !(given in rest)) continue;
    const value = orNull(rest[given]);
    changes[name] = ((fields[name] as Field).kind === 'yes-no' ? value === 'yes' : value) as never;
    delete rest[given];
  }
  return { changes, rest };
}
