import { Download } from 'lucide-react';
import { useState } from 'react';
import type { Statement } from '../../src/api/mail-schemas.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { Answer, ProblemNote } from './blocks.tsx';
import { Field } from './forms.tsx';
import { count, size } from './words.ts';

type Amounts = Statement['total'];

/** What a scope sent in some days: by day and by mailbox, as the ledger has it; to take away as a table. */
export function StatementView({ scope }: { scope: string }) {
  const [from, setFrom] = useState('');
  const [to, setTo] = useState('');
  const days = new URLSearchParams({ ...(from ? { from } : {}), ...(to ? { to } : {}) });
  const query = useCall<Statement>(`/statements/${part(scope)}?${days}`);
  const csv = useChange<{ csv: string }, Statement>(async (one) => {
    const table = await call<{ csv: string }>('GET', `/statements/${part(scope)}/csv?${days}`);
    const link = document.createElement('a');
    link.href = URL.createObjectURL(new Blob([table.csv], { type: 'text/csv' }));
    link.download = `${one.name} ${one.from} to ${one.to}.csv`;
    link.click();
    URL.revokeObjectURL(link.href);
    return table;
  });
  const date = (label: string, value: string, set: (value: string) => void, hint: string) => (
    <Field label={label} hint={hint}>
      <input className="input input-sm w-full" type="date" value={value} onChange={(event) => set(event.target.value)} />
    </Field>
  );
  return (
    <div>
      <div className="grid gap-x-3 sm:grid-cols-2">
        {date('First day', from, setFrom, 'Empty: the first of the month')}
        {date('Last day', to, setTo, 'Empty: today')}
      </div>
      <Answer query={query}>
        {(one) => (
          <>
            <div className="mb-2 flex flex-wrap items-center justify-between gap-2">
              <p className="text-sm">
                {one.from} to {one.to} <span className="soft">({one.zone})</span>: {count(one.total.messages, 'message')} with{' '}
                {count(one.total.sends, 'send')}, {size(one.total.bytes)}
                {one.forwarded.sends > 0 ? `; ${count(one.forwarded.sends, 'send')} of them forwarded` : ''}
              </p>
              <button type="button" className="btn btn-sm" onClick={() => csv.mutate(one)} disabled={csv.isPending}>
                <Download size={14} aria-hidden="true" /> As CSV
              </button>
            </div>
            {csv.error ? <ProblemNote problem={csv.error} /> : null}
            {one.total.sends === 0 ? (
              <p className="soft text-sm">No charges in this period.</p>
            ) : (
              <div className="grid grid-cols-1 items-start gap-4 sm:grid-cols-2">
                <Figures name="Day" rows={one.days.filter((day) => day.sends > 0).map((day) => [day.day, day])} />
                <Figures
                  name="Sent by"
                  rows={one.parts.map((by) => [by.kind === 'forwarded' ? `${by.domain}, forwarded` : (by.mailbox ?? by.domain), by])}
                />
              </div>
            )}
          </>
        )}
      </Answer>
    </div>
  );
}

function Figures({ name, rows }: { name: string; rows: [string, Amounts][] }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard
    <section className="max-h-80 overflow-auto" tabIndex={0} aria-label={`By ${name.toLowerCase()}`}>
      <table className="table table-xs table-pin-rows">
        <thead>
          <tr>
            <th scope="col">{name}</th>
            <th scope="col" className="text-right">
              Sends
            </th>
            <th scope="col" className="text-right">
              Size
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([label, amounts]) => (
            <tr key={label}>
              <td className="[overflow-wrap:anywhere]">{label}</td>
              <td className="text-right">{amounts.sends.toLocaleString('en')}</td>
              <td className="whitespace-nowrap text-right">{size(amounts.bytes)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
