import { Plus, X } from 'lucide-react';
import { type FormEvent, useState } from 'react';
import type { LimitValue } from '../../src/api/mail-schemas.ts';
import type { Plan } from '../../src/api/schemas.ts';
import type { Period, Quantity } from '../../src/core/vocabulary.ts';
import { call, part, useChange } from '../api.ts';
import { Field, Form, FormEnd } from './forms.tsx';
import { amountInput, amountOf, PeriodOptions, QuantityOptions } from './limits.tsx';

const GIB = 1024 ** 3;

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
  const [values, setValues] = useState({
    name: one?.name ?? '',
    holdMost: String(one?.holdMost ?? 500),
    holdHours: String(one?.holdHours ?? 24),
    quota: String((one?.quotaBytes ?? GIB) / GIB),
    mailboxes: String(one?.mostMailboxes ?? 25),
    brakeShare: one ? String(one.brakeShare ?? '') : '40',
    brakeLeast: String(one?.brakeLeast ?? 20),
  });
  const [whenFull, setWhenFull] = useState<string>(one?.whenFull ?? 'refuse');
  const [indexTexts, setIndexTexts] = useState(one?.indexTexts ?? false);
  const [unusual, setUnusual] = useState<string>(one?.unusual ?? 'flag');
  const save = useChange<Plan>(() => {
    const body = {
      name: values.name,
      limits: valuesOf(lines, 'domain', one?.limits ?? []),
      mailboxLimits: valuesOf(lines, 'mailbox', one?.mailboxLimits ?? []),
      whenFull,
      holdMost: Number(values.holdMost),
      holdHours: Number(values.holdHours),
      unusual,
      indexTexts,
      brakeShare: values.brakeShare.trim() === '' ? null : Number(values.brakeShare),
      brakeLeast: Number(values.brakeLeast),
      quotaBytes: Math.round(Number(values.quota) * GIB),
      mostMailboxes: Number(values.mailboxes),
    };
    return one ? call('PATCH', `/plans/${part(one.name)}`, body, one.revision) : call('POST', '/plans', body);
  }, onClose);
  const change = (key: number, part: Partial<Line>) => setLines(lines.map((line) => (line.key === key ? { ...line, ...part } : line)));
  const input = (key: keyof typeof values, label: string, { hint, text = false, required = true }: InputChoice = {}) => (
    <Field field={key} label={label} {...(hint ? { hint } : {})}>
      <input
        className="input input-sm w-full"
        type={text ? 'text' : 'number'}
        step="any"
        min={0}
        required={required}
        value={values[key]}
        onChange={(event) => setValues({ ...values, [key]: event.target.value })}
      />
    </Field>
  );
  return (
    <Form
      problem={save.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      {input('name', 'Name', { text: true })}
      <fieldset className="mb-3">
        <legend className="mb-1 font-medium text-sm">Limits</legend>
        {lines.length === 0 ? (
          <p className="soft mb-2 text-sm">No limit: whoever has this plan may send as much as the server accepts.</p>
        ) : null}
        {lines.map((line, at) => (
          <fieldset
            key={line.key}
            className="mb-3 grid grid-cols-3 items-center gap-1.5 sm:mb-1.5 sm:grid-cols-[6.5rem_1fr_7.5rem_6rem_2rem]"
            aria-label={`Limit ${at + 1}`}
          >
            <select
              className="select select-sm w-full"
              aria-label="Of whom"
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
        <Field field="whenFull" label="When a limit is full">
          <select className="select select-sm w-full" value={whenFull} onChange={(event) => setWhenFull(event.target.value)}>
            <option value="refuse">refuse</option>
            <option value="hold">hold until there is room</option>
          </select>
        </Field>
        <Field field="unusual" label="Unusual sending">
          <select className="select select-sm w-full" value={unusual} onChange={(event) => setUnusual(event.target.value)}>
            <option value="off">is not looked for</option>
            <option value="flag">is flagged</option>
            <option value="stop">is flagged and stopped</option>
          </select>
        </Field>
        {whenFull === 'hold' ? (
          <>
            {input('holdMost', 'At most so many recipients wait')}
            {input('holdHours', 'For at most so many hours')}
          </>
        ) : null}
        {input('brakeShare', 'Brake at % of failures', { hint: 'Empty: no brake', required: false })}
        {input('brakeLeast', 'But not before', { hint: 'So many sends in an hour' })}
        {input('quota', 'Quota of a mailbox, GiB')}
        {input('mailboxes', 'Mailboxes a domain')}
      </div>
      <label className="mb-3 flex cursor-pointer items-center gap-2 text-sm">
        <input
          type="checkbox"
          className="checkbox checkbox-sm"
          checked={indexTexts}
          onChange={(event) => setIndexTexts(event.target.checked)}
        />
        Index the texts of mail, so that searches in large folders are quick
      </label>
      <FormEnd action={one ? 'Change it' : 'Add the plan'} busy={save.isPending} problem={save.error} onCancel={onClose} />
    </Form>
  );
}

interface InputChoice {
  hint?: string;
  text?: boolean;
  required?: boolean;
}
