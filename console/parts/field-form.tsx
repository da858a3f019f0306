import { useState } from 'react';
import type { Field as Described, Fields, ValuesOf } from '../../src/resources/fields.ts';
import { Field } from './forms.tsx';

const UNIT = { MiB: 1024 ** 2, GiB: 1024 ** 3 };

/** A value as it stands in its control. */
function typedOf(field: Described, value: unknown): string | boolean {
  if (field.kind === 'yes-no') return value === true;
  if (value === null) return '';
  return field.kind === 'size' ? String((value as number) / UNIT[field.unit]) : String(value);
}

/** What was typed, as the API takes it; nothing typed is none. */
function setOf(field: Described, typed: string | boolean): unknown {
  if (typeof typed === 'boolean' || field.kind === 'choice') return typed;
  const text = typed.trim();
  if (text === '') return null;
  if (field.kind === 'size') return Math.round(Number(text) * UNIT[field.unit]);
  return field.kind === 'count' ? Number(text) : text;
}

/** What is typed into the controls of some fields. */
export interface FieldForm<All extends Fields> {
  fields: All;
  values: ValuesOf<All>;
  /** Whether they are other than they were. */
  isChanged: boolean;
  typed: Readonly<Record<string, string | boolean>>;
  type: (name: string, typed: string | boolean) => void;
}

/** Keeps what is typed for the fields of a thing, from what they are on. */
export function useFieldForm<All extends Fields>(fields: All, before: ValuesOf<All>): FieldForm<All> {
  const names = Object.keys(fields);
  const described = (name: string): Described => fields[name] as Described;
  const [typed, setTyped] = useState(() => Object.fromEntries(names.map((name) => [name, typedOf(described(name), before[name])])));
  const values = Object.fromEntries(names.map((name) => [name, setOf(described(name), typed[name] ?? '')])) as ValuesOf<All>;
  return {
    fields,
    values,
    isChanged: names.some((name) => values[name] !== before[name]),
    typed,
    type: (name, text) => setTyped((all) => ({ ...all, [name]: text })),
  };
}

/** The control of one field, with its label; `hint` and `words` say more than the field itself can know. */
export function FieldControl<All extends Fields>({
  form,
  name,
  hint,
  words = {},
  isDense = false,
}: {
  form: FieldForm<All>;
  name: keyof All & string;
  hint?: string;
  /** What a choice's words are called, where not by themselves. */
  words?: Readonly<Record<string, string>>;
  /** In a dialog with many of them. */
  isDense?: boolean;
}) {
  const field = form.fields[name] as Described;
  const typed = form.typed[name];
  if (field.kind === 'yes-no')
    return (
      <label className="mb-3 flex cursor-pointer items-center gap-2 text-sm">
        <input type="checkbox" className="toggle" checked={typed === true} onChange={(event) => form.type(name, event.target.checked)} />
        {field.label}
      </label>
    );
  const said = hint ?? field.hint;
  const text = {
    value: String(typed),
    onChange: (event: { target: { value: string } }) => form.type(name, event.target.value),
  };
  const isNeeded = (field.kind === 'size' || field.kind === 'count') && field.isNeeded === true;
  const number = { type: 'number', min: field.kind === 'size' ? 0 : 1, step: field.kind === 'size' ? 'any' : 1, required: isNeeded };
  const dense = isDense ? { select: 'select-sm', input: 'input-sm' } : { select: '', input: '' };
  return (
    <Field field={name} label={field.label} {...(said === undefined ? {} : { hint: said })}>
      {field.kind === 'choice' ? (
        <select className={`select w-full ${dense.select}`} {...text}>
          {field.of.map((one) => (
            <option key={one} value={one}>
              {words[one] ?? one}
            </option>
          ))}
        </select>
      ) : (
        <input className={`input w-full ${dense.input}`} {...text} {...(field.kind === 'words' ? {} : number)} />
      )}
    </Field>
  );
}
