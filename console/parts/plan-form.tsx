import { Plus, X } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { LimitValue } from '../../src/api/mail-schemas.ts';
import type { Plan } from '../../src/api/schemas.ts';
import type { Period, Quantity } from '../../src/core/vocabulary.ts';
import { NEW_PLAN, PLAN_FIELDS } from '../../src/resources/plan.ts';
import { call, part, useChange } from '../api.ts';
import { FieldControl, useFieldForm } from './field-form.tsx';
import { Field, Form, FormEnd } from './forms.tsx';
import { amountInput, amountOf, PeriodOptions, QuantityOptions } from './limits.tsx';

interface Line {
  key: number;
  of: 'domain' | 'mailbox';
  amount: string;
  quantity: Quantity;
  period: Period;
}

const START: Omit<Line, 'key'>[] = [
  { of: 'domain', amount: '200', quantity: 'sends', period: 'hour' },
  { of: 'domain', amount: '1000', quantity: 'sends', period: 'day' },
];

const linesOf = (plan: Plan): Omit<Line, 'key'>[] => {
  const lines = (of: Line['of'], limits: readonly LimitValue[]) =>
    limits.map(({ period, quantity, amount }) => ({ of, period, quantity, amount: amountInput(amount, quantity) }));
  return [...lines('domain', plan.limits), ...lines('mailbox', plan.mailboxLimits)];
};

/** The limits of one kind, for the plan: those that are no longer there are taken away. */
function valuesOf(lines: readonly Line[], of: Line['of'], before: readonly LimitValue[]): LimitValue[] {
  const set = lines
    .filter((line) => line.of === of)
    .map(({ period, quantity, amount }) => ({ period, quantity, amount: amountOf(amount, quantity) }));
  const gone = before.filter((one) => !set.some((other) => other.period === one.period && other.quantity === one.quantity));
  return [...set, ...gone.map(({ period, quantity }) => ({ period, quantity, amount: null }))];
}

/** Adds a plan, or changes one. */
export function PlanForm({ one, onClose }: { one: Plan | null; onClose: () => void }) {
  const [lines, setLines] = useState<Line[]>(() => (one ? linesOf(one) : START).map((line, key) => ({ ...line, key })));
  const [name, setName] = useState(one?.name ?? '');
  const form = useFieldForm(PLAN_FIELDS, one ?? NEW_PLAN);
  const save = useChange<Plan>(() => {
    const body = {
      name,
      limits: valuesOf(lines, 'domain', one?.limits ?? []),
      mailboxLimits: valuesOf(lines, 'mailbox', one?.mailboxLimits ?? []),
      ...form.values,
    };
    return one ? call('PATCH', `/plans/${part(one.name)}`, body, one.revision) : call('POST', '/plans', body);
  }, onClose);
  const change = (key: number, part: Partial<Line>) => setLines(lines.map((line) => (line.key === key ? { ...line, ...part } : line)));
  const control = (field: keyof typeof PLAN_FIELDS, words = {}) => <FieldControl form={form} name={field} words={words} isDense />;
  return (
    <Form
      problem={save.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      <Field field="name" label="Name">
        <input className="input input-sm w-full" required value={name} onChange={(event) => setName(event.target.value)} />
      </Field>
      <fieldset className="mb-3">
        <legend className="mb-1 font-medium text-sm">Limits</legend>
        {lines.length === 0 ? (
          <p className="soft mb-2 text-sm">No limit: domains with this plan may send as much as the server accepts.</p>
        ) : null}
        {lines.map((line, at) => (
          <fieldset
            key={line.key}
            className="mb-3 grid grid-cols-3 items-center gap-1.5 sm:mb-1.5 sm:grid-cols-[6.5rem_1fr_7.5rem_6rem_2rem]"
            aria-label={`Limit ${at + 1}`}
          >
            <select
              className="select select-sm w-full"
              aria-label="For"
              value={line.of}
              onChange={(event) => change(line.key, { of: event.target.value as Line['of'] })}
            >
              <option value="domain">a domain</option>
              <option value="mailbox">a mailbox</option>
            </select>
            <input
              className="input input-sm w-full"
              type="number"
              step="any"
              min={0}
              required
              aria-label="Amount"
              value={line.amount}
              onChange={(event) => change(line.key, { amount: event.target.value })}
            />
            <select
              className="select select-sm w-full"
              aria-label="Quantity"
              value={line.quantity}
              onChange={(event) => change(line.key, { quantity: event.target.value as Quantity })}
            >
              <QuantityOptions />
            </select>
            <select
              className="select select-sm w-full"
              aria-label="Period"
              value={line.period}
              onChange={(event) => change(line.key, { period: event.target.value as Period })}
            >
              <PeriodOptions />
            </select>
            <button
              type="button"
              className="btn btn-square btn-ghost btn-sm"
              aria-label={`Take limit ${at + 1} away`}
              onClick={() => setLines(lines.filter((other) => other.key !== line.key))}
            >
              <X size={14} aria-hidden="true" />
            </button>
          </fieldset>
        ))}
        <button
          type="button"
          className="btn btn-sm mt-1"
          onClick={() =>
            setLines([
              ...lines,
              { of: 'mailbox', amount: '', quantity: 'sends', period: 'hour', key: Math.max(-1, ...lines.map((line) => line.key)) + 1 },
            ])
          }
        >
          <Plus size={14} aria-hidden="true" /> Add a limit
        </button>
      </fieldset>
      <div className="grid gap-x-3 sm:grid-cols-2">
        {control('whenFull', { hold: 'hold until there is room' })}
        {control('unusual', { off: 'is not watched', flag: 'is flagged', stop: 'is flagged and stopped' })}
        {form.values.whenFull === 'hold' ? (
          <>
            {control('holdMost')}
            {control('holdHours')}
          </>
        ) : null}
        {control('brakeShare')}
        {control('brakeLeast')}
        {control('quotaBytes')}
        {control('mostMailboxes')}
      </div>
      {control('indexTexts')}
      <FormEnd action={one ? 'Save' : 'Add the plan'} busy={save.isPending} problem={save.error} onCancel={onClose} />
    </Form>
  );
}
