import { z } from 'zod';
import type { Field, Fields, ValueOf } from '../resources/fields.ts';
import { text } from './base-schemas.ts';

const UNITS = ['octets', 'KiB', 'MiB', 'GiB', 'TiB'];
/** `1 GiB` */
function sizeWords(octets: number): string {
  const power = Math.min(4, Math.floor(Math.log2(octets) / 10));
  return `${octets / 1024 ** power} ${UNITS[power]}`;
}

function shapeOf(field: Field): z.ZodType {
  switch (field.kind) {
    case 'choice':
      return z.enum(field.of, `one of ${field.of.join(', ')}`);
    case 'yes-no':
      return z.boolean('true or false');
    case 'size': {
      const size = z
        .int('a whole number of bytes')
        .min(field.least, `at least ${sizeWords(field.least)}`)
        .max(field.most, `at most ${sizeWords(field.most)}`);
      return field.isNeeded ? size : size.nullable();
    }
    case 'count': {
      const count = z
        .int('a whole number')
        .min(1, 'at least 1')
        .max(field.most, `at most ${field.most.toLocaleString('en')}`);
      return field.isNeeded ? count : count.nullable();
    }
    case 'words':
      return text.nullable();
  }
}

/** The shape of each field, as the API takes and gives it. */
export const shapesOf = <All extends Fields>(fields: All): { [Name in keyof All]: z.ZodType<ValueOf<All[Name]>> } =>
  Object.fromEntries(
    Object.entries(fields).map(([name, field]) => [
      name,
      field.about === undefined ? shapeOf(field) : shapeOf(field).meta({ description: field.about }),
    ]),
  ) as never;

/** The same for a new thing: what is left out is as it begins. */
export const startingShapesOf = <All extends Fields>(fields: All): { [Name in keyof All]: z.ZodDefault<z.ZodType<ValueOf<All[Name]>>> } =>
  Object.fromEntries(Object.entries(shapesOf(fields)).map(([name, shape]) => [name, shape.default(fields[name]?.start as never)])) as never;
