import { type FormEvent, useState } from 'react';
import type { Limits, LimitUse, LimitValue } from '../../src/api/mail-schemas.ts';
import { PERIODS, type Period, QUANTITIES, type Quantity } from '../../src/core/vocabulary.ts';
import { limitText, periodText, usedInText } from '../../src/texts/en/limits.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { AskFirst } from './ask-first.tsx';
import { Answer, ProblemNote } from './blocks.tsx';
import { Field, Form, FormProblem } from './forms.tsx';
import { Meter } from './marks.tsx';
import { count, fullTime, size } from './words.ts';

const MIB = 1024 ** 2;

/** What is typed of a limit: octets in MiB. */
export const amountInput = (amount: number | null, quantity: Quantity): string =>
  amount === null ? '' : String(quantity === 'bytes' ? amount / MIB : amount);
export const amountOf = (text: string, quantity: Quantity): number | null =>
  text.trim() === '' ? null : quantity === 'bytes' ? Math.round(Number(text) * MIB) : Number(text);

export const PeriodOptions = () =>
  PERIODS.map((one) => (
    <option key={one} value={one}>
      {periodText(one)}
    </option>
  ));
export const QuantityOptions = () =>
  QUANTITIES.map((one) => (
    <option key={one} value={one}>
      {one === 'bytes' ? 'MiB of text' : one}
    </option>
  ));

const figure = (number: number, quantity: Quantity): string => (quantity === 'bytes' ? size(number) : number.toLocaleString('en'));

/** `1,000 sends per day` */
export const limitLine = (limit: LimitValue): string => limitText(limit, size);

/** Each limit with what is used of it, where it comes from, and when there is room again. */
export function LimitMeters({ limits }: { limits: LimitUse[] }) {
  if (limits.length === 0) return <p className="soft text-sm">No limits.</p>;
  return (
    <div className="space-y-4">
      {limits.map((one) => (
        <div key={`${one.period} ${one.quantity}`}>
          <div className="mb-1 flex flex-wrap justify-between gap-x-3 text-sm">
            <span>
              {one.quantity[0]?.toUpperCase()}
              {one.quantity.slice(1)} {usedInText(one.period)} <Origin one={one} />
            </span>
            {one.amount !== null && one.used >= one.amount ? (
              <span className="text-error">full{one.roomAt ? `, room again ${fullTime(one.roomAt)}` : ''}</span>
            ) : one.reserved > 0 ? (
              <span className="soft">{figure(one.reserved, one.quantity)} reserved by open connections</span>
            ) : null}
          </div>
          {one.quantity === 'bytes' && one.amount !== null ? (
            <div>
              <progress
                className="progress progress-primary w-full"
                max={one.amount || 1}
                value={one.used}
                aria-label={`Octets ${usedInText(one.period)}`}
              />
              <span className="soft text-xs">
                {size(one.used)} of {size(one.amount)}
              </span>
            </div>
          ) : (
            <Meter wide used={one.used} limit={one.amount} label={`${one.quantity} ${usedInText(one.period)}`} />
          )}
        </div>
      ))}
    </div>
  );
}

function Origin({ one }: { one: LimitUse }) {
  if (one.from === 'plan' || (one.from === 'own' && one.planAmount === null)) return null;
  if (one.raise)
    return (
      <span className="badge badge-info badge-sm" title={one.raise.reason}>
        raised until {fullTime(one.raise.until)}
      </span>
    );
  return (
    <span className="badge badge-ghost badge-sm">
      its own{one.planAmount === null ? '' : `, the plan has ${figure(one.planAmount, one.quantity)}`}
    </span>
  );
}

const STOPPED = { pause: 'is paused', brake: 'is braked', unusual: 'is stopped for unusual sending' } as const;

/** Limits of a scope, with forms to set one, to raise one for a while, and to choose what happens when one is full. */
export function ScopeLimits({ scope, meters = true }: { scope: string; meters?: boolean }) {
  const query = useCall<Limits>(`/limits/${part(scope)}`, { everyMs: 5000 });
  return (
    <Answer query={query}>
      {(limits) => (
        <div className="space-y-5">
          {limits.stop ? (
            <p className="text-error text-sm">
              {limits.stop.scope} {STOPPED[limits.stop.kind]}: nothing is sent until then, whatever the limits.
            </p>
          ) : null}
          {meters ? <LimitMeters limits={limits.limits} /> : null}
          {limits.kind === 'outlet' ? null : <WhenFull key={limits.whenFull} limits={limits} />}
          <LimitForm scope={scope} limits={limits} />
        </div>
      )}
    </Answer>
  );
}

function WhenFull({ limits }: { limits: Limits }) {
  const set = useChange<Limits, string>((whenFull) => call('PUT', `/limits/${part(limits.scope)}`, { whenFull }));
  return (
    <div className="text-sm">
      <Field
        field="whenFull"
        label="When a limit is full"
        hint={
          limits.choiceFrom === 'own'
            ? 'Own setting.'
            : limits.kind === 'domain' || limits.kind === 'mailbox'
              ? 'From the plan.'
              : 'Refused by default.'
        }
      >
        <select className="select select-sm w-full" value={limits.whenFull} onChange={(event) => set.mutate(event.target.value)}>
          <option value="refuse">refuse what is sent (452)</option>
          <option value="hold">
            hold it until there is room (at most {limits.holdMost}, {count(limits.holdHours, 'hour')})
          </option>
        </select>
      </Field>
      {limits.waiting > 0 ? <p className="text-warning">{count(limits.waiting, 'recipient')} waiting for room.</p> : null}
      {set.error ? <ProblemNote problem={set.error} /> : null}
    </div>
  );
}

function LimitForm({ scope, limits }: { scope: string; limits: Limits }) {
  const [kind, setKind] = useState<'set' | 'raise'>('set');
  const [period, setPeriod] = useState<Period>('day');
  const [quantity, setQuantity] = useState<Quantity>('sends');
  const [amount, setAmount] = useState('');
  const [hours, setHours] = useState('24');
  const [reason, setReason] = useState('');
  const set = useChange<Limits>(
    () => {
      const value = amountOf(amount, quantity);
      return kind === 'set'
        ? call('PUT', `/limits/${part(scope)}`, { limits: [{ period, quantity, amount: value }] })
        : call('POST', `/limits/${part(scope)}/raises`, {
            period,
            quantity,
            amount: value,
            until: Date.now() + Number(hours) * 3_600_000,
            reason,
          });
    },
    () => setAmount(''),
  );
  const plan = useChange<Limits>(() => call('PUT', `/limits/${part(scope)}`, { limits: [{ period, quantity, amount: 'plan' }] }));
  const endRaises = useChange<Limits>(() => call('DELETE', `/limits/${part(scope)}/raises`));
  const current = limits.limits.find((one) => one.period === period && one.quantity === quantity);
  return (
    <Form
      problem={set.error}
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        set.mutate();
      }}
    >
      <div role="tablist" className="tabs tabs-border tabs-sm mb-2">
        {(['set', 'raise'] as const).map((one) => (
          <button
            key={one}
            type="button"
            role="tab"
            aria-selected={kind === one}
            className={`tab ${kind === one ? 'tab-active' : ''}`}
            onClick={() => setKind(one)}
          >
            {one === 'set' ? 'Set a limit' : 'Raise for a while'}
          </button>
        ))}
      </div>
      <div className="grid grid-cols-2 gap-x-3">
        <Field field="quantity" label="Of">
          <select className="select select-sm w-full" value={quantity} onChange={(event) => setQuantity(event.target.value as Quantity)}>
            <QuantityOptions />
          </select>
        </Field>
        <Field field="period" label="Per">
          <select className="select select-sm w-full" value={period} onChange={(event) => setPeriod(event.target.value as Period)}>
            <PeriodOptions />
          </select>
        </Field>
      </div>
      <Field
        field="amount"
        label="Limit"
        hint={kind === 'set' ? 'Empty means no limit. Effective from the next recipient.' : 'Must be higher than the current limit.'}
      >
        <input
          className="input input-sm w-full"
          type="number"
          min={0}
          step="any"
          required={kind === 'raise'}
          placeholder={amountInput(current?.amount ?? null, quantity) || 'no limit'}
          value={amount}
          onChange={(event) => setAmount(event.target.value)}
        />
      </Field>
      {kind === 'raise' ? (
        <>
          <Field field="until" label="For how many hours">
            <input
              className="input input-sm w-full"
              type="number"
              min={1}
              required
              value={hours}
              onChange={(event) => setHours(event.target.value)}
            />
          </Field>
          <Field field="reason" label="Why" hint="Recorded in the journal.">
            <input className="input input-sm w-full" required value={reason} onChange={(event) => setReason(event.target.value)} />
          </Field>
        </>
      ) : null}
      <FormProblem problem={set.error} />
      {plan.error ? <ProblemNote problem={plan.error} /> : null}
      {endRaises.error ? <ProblemNote problem={endRaises.error} /> : null}
      <div className="flex flex-wrap gap-2">
        {kind === 'set' && amount.trim() === '' && current != null && current.amount !== null ? (
          <AskFirst
            label="Set the limit"
            title="Set no limit"
            question={`The limit of ${figure(current.amount, quantity)} no longer applies: as much may be sent as other limits allow.`}
            action="Set no limit"
            act={() => set.mutate()}
            disabled={set.isPending}
          />
        ) : (
          <button type="submit" className="btn btn-sm btn-primary" disabled={set.isPending}>
            {kind === 'set' ? 'Set the limit' : 'Raise the limit'}
          </button>
        )}
        {kind === 'set' && current?.from === 'own' ? (
          <AskFirst
            label={limits.kind === 'domain' || limits.kind === 'mailbox' ? 'Use the plan’s limit' : 'Remove the limit'}
            question={`Its own limit (${current.amount === null ? 'none' : figure(current.amount, quantity)}) no longer applies.`}
            action="Remove the limit"
            act={() => plan.mutate()}
          />
        ) : null}
        {kind === 'raise' && limits.limits.some((one) => one.raise) ? (
          <AskFirst
            label="End the raise now"
            question="The limits from before the raise apply again immediately."
            action="End the raise"
            act={() => endRaises.mutate()}
          />
        ) : null}
      </div>
    </Form>
  );
}
