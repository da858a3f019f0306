import { Bar, BarChart, CartesianGrid, Legend, ReferenceLine, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts';
import { shortTime } from './words.ts';

const HOUR = 3_600_000;

/** The end of an axis that holds the value and parts into four even steps. */
function evenTop(most: number): number {
  const rough = Math.max(1, most / 4);
  const power = 10 ** Math.floor(Math.log10(rough));
  return 4 * ([1, 2, 3, 4, 5, 6, 8].map((step) => step * power).find((step) => step >= rough) ?? 10 * power);
}

/** With more hours than these, a bar stands for a day. */
const MOST_HOURS = 100;

/** How sends ended, hour by hour (or day by day) up to now, empty stretches included. */
export function OutcomeChart({
  outcomes,
  hours,
  limit = null,
  label,
}: {
  outcomes: { hour: number; state: string; sends: number }[];
  hours: number;
  limit?: number | null;
  label: string;
}) {
  const byDay = hours > MOST_HOURS;
  const stretch = byDay ? 24 * HOUR : HOUR;
  const bars = Math.ceil((hours * HOUR) / stretch);
  // Days are those of the one who looks at them.
  const newest = byDay ? new Date().setHours(0, 0, 0, 0) : Math.floor(Date.now() / HOUR) * HOUR;
  const data = Array.from({ length: bars }, (_none, at) => ({ at: newest - (bars - 1 - at) * stretch, relayed: 0, failed: 0 }));
  for (const one of outcomes) {
    const bar = data[bars - 1 - Math.floor((newest + stretch - 1 - one.hour) / stretch)];
    if (!bar) continue;
    if (one.state === 'failed') bar.failed += one.sends;
    else bar.relayed += one.sends;
  }
  const most = Math.max(...data.map((one) => one.relayed + one.failed), 4);
  const total = data.reduce((sum, one) => sum + one.relayed + one.failed, 0);
  const failed = data.reduce((sum, one) => sum + one.failed, 0);
  const tick = (at: number): string =>
    byDay
      ? new Date(at).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })
      : `${String(new Date(at).getHours()).padStart(2, '0')}:00`;
  return (
    <figure aria-label={`${label}: ${total} ended, ${failed} of them failed`} className="h-52 w-full">
      <ResponsiveContainer width="100%" height="100%">
        <BarChart data={data} margin={{ top: 8, right: 4, bottom: 0, left: -18 }} barCategoryGap={bars > 48 ? 1 : 3}>
          <CartesianGrid vertical={false} stroke="var(--color-base-300)" />
          <XAxis
            dataKey="at"
            tickFormatter={tick}
            interval={Math.max(0, Math.floor(bars / 8) - 1)}
            tick={{ fontSize: 11, fill: 'currentColor' }}
            tickLine={false}
            axisLine={{ stroke: 'var(--color-base-300)' }}
          />
          <YAxis
            allowDecimals={false}
            tick={{ fontSize: 11, fill: 'currentColor' }}
            tickLine={false}
            axisLine={false}
            domain={[0, evenTop(limit !== null && limit <= most * 2.5 ? Math.max(most, limit) : most)]}
          />
          <Tooltip
            cursor={{ fill: 'var(--color-base-300)', opacity: 0.4 }}
            labelFormatter={(at) => (byDay ? tick(Number(at)) : `${shortTime(Number(at))}, one hour`)}
            contentStyle={{ background: 'var(--color-base-100)', border: '1px solid var(--color-base-300)', borderRadius: 8, fontSize: 12 }}
          />
          <Legend iconSize={10} wrapperStyle={{ fontSize: 12 }} />
          {limit !== null && limit <= most * 2.5 ? (
            <ReferenceLine
              y={limit}
              stroke="var(--color-error)"
              strokeDasharray="4 4"
              label={{ value: `limit ${limit}`, position: 'insideTopLeft', fontSize: 11, fill: 'var(--color-error)' }}
            />
          ) : null}
          <Bar dataKey="relayed" stackId="ended" fill="var(--color-primary)" isAnimationActive={false} />
          <Bar dataKey="failed" stackId="ended" fill="var(--color-error)" radius={[3, 3, 0, 0]} isAnimationActive={false} />
        </BarChart>
      </ResponsiveContainer>
    </figure>
  );
}
