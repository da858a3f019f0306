import { type FormEvent, useState } from 'react';
import { Link } from 'react-router';
import type { Domain, LedgerView } from '../../src/api/schemas.ts';
import { call, part, useCall, useChange } from '../api.ts';
import { Answer, Empty, Field, Panel, ProblemNote } from '../parts/blocks.tsx';
import { HourlyChart } from '../parts/charts.tsx';
import { Meter } from '../parts/marks.tsx';
import { count, fullTime, shortTime } from '../parts/words.ts';

export function SendingTab({ domain }: { domain: Domain }) {
  const [days, setDays] = useState(1);
  const ledger = useCall<LedgerView>(`/domains/${part(domain.name)}/ledger?days=${days}`, { everyMs: 5000 });
  return (
    <div className="grid gap-4 lg:grid-cols-3">
      <Panel title="Sends against the limit" className="lg:col-span-2">
        <div className="space-y-4">
          <Used title="In the last hour" usage={domain.usage.hour} />
          <Used title="In the last 24 hours" usage={domain.usage.day} />
          {domain.usage.reserved > 0 ? (
            <p className="soft text-sm">{count(domain.usage.reserved, 'more')} promised to open connections.</p>
          ) : null}
        </div>
      </Panel>
      <Panel title="Limits">
        <LimitForm key={`${domain.hourLimit} ${domain.dayLimit}`} domain={domain} />
      </Panel>
      <Panel
        title="Sends by hour"
        className="lg:col-span-3"
        aside={
          <select
            className="select select-sm w-auto"
            aria-label="Period"
            value={days}
            onChange={(event) => setDays(Number(event.target.value))}
          >
            <option value={1}>last 24 hours</option>
            <option value={4}>last 4 days</option>
          </select>
        }
      >
        <Answer query={ledger}>
          {(view) => (
            <>
              <HourlyChart hours={view.hours} back={days * 24} limit={domain.hourLimit} label="Sends by hour" />
              <h3 className="mt-4 mb-2 font-medium text-sm">Ledger: {count(view.total, 'send')}</h3>
              {view.lines.length === 0 ? (
                <Empty>Nothing was charged in this time.</Empty>
              ) : (
                <div className="max-h-96 overflow-auto">
                  <table className="table table-sm table-pin-rows">
                    <thead>
                      <tr>
                        <th scope="col">Time</th>
                        <th scope="col">Mailbox</th>
                        <th scope="col">Subject</th>
                        <th scope="col" className="text-right">
                          Sends
                        </th>
                      </tr>
                    </thead>
                    <tbody>
                      {view.lines.slice(0, 200).map((line) => (
                        <tr key={line.journeyId}>
                          <td className="whitespace-nowrap">
                            <Link className="link link-hover" to={`/traffic/${line.journeyId}`} title={fullTime(line.at)}>
                              {shortTime(line.at)}
                            </Link>
                          </td>
                          <td>{line.mailbox ?? <span className="soft">through an alias</span>}</td>
                          <td className="max-w-80 truncate">{line.subject}</td>
                          <td className="text-right">{line.sends}</td>
                        </tr>
                      ))}
                    </tbody>
                  </table>
                </div>
              )}
            </>
          )}
        </Answer>
      </Panel>
    </div>
  );
}

function Used({ title, usage }: { title: string; usage: Domain['usage']['hour'] }) {
  const full = usage.limit !== null && usage.used >= usage.limit;
  return (
    <div>
      <div className="mb-1 flex justify-between text-sm">
        <span>{title}</span>
        {full ? <span className="text-error">full{usage.roomAt ? `, room again ${fullTime(usage.roomAt)}` : ''}</span> : null}
      </div>
      <Meter wide used={usage.used} limit={usage.limit} label={`Sends ${title.toLowerCase()}`} />
    </div>
  );
}

const asLimit = (text: string): number | null => (text.trim() === '' ? null : Number(text));

function LimitForm({ domain }: { domain: Domain }) {
  const [hour, setHour] = useState(domain.hourLimit === null ? '' : String(domain.hourLimit));
  const [day, setDay] = useState(domain.dayLimit === null ? '' : String(domain.dayLimit));
  const set = useChange<Domain>(() => call('PUT', `/domains/${part(domain.name)}/limit`, { hour: asLimit(hour), day: asLimit(day) }));
  const changed = asLimit(hour) !== domain.hourLimit || asLimit(day) !== domain.dayLimit;
  return (
    <form
      onSubmit={(event: FormEvent) => {
        event.preventDefault();
        set.mutate();
      }}
    >
      <Field label="Sends per hour">
        <input
          className="input input-sm w-full"
          type="number"
          min={0}
          placeholder="no limit"
          value={hour}
          onChange={(event) => setHour(event.target.value)}
        />
      </Field>
      <Field label="Sends per day" hint="Empty means no limit. A change applies to the next recipient.">
        <input
          className="input input-sm w-full"
          type="number"
          min={0}
          placeholder="no limit"
          value={day}
          onChange={(event) => setDay(event.target.value)}
        />
      </Field>
      {set.error ? <ProblemNote problem={set.error} /> : null}
      <button type="submit" className="btn btn-sm btn-primary" disabled={!changed || set.isPending}>
        Set the limits
      </button>
    </form>
  );
}
