import { Bar, BarChart, CartesianGrid, ReferenceLine, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts';
import { shortTime } from './words.ts';

const HOUR = 3_600_000;

/** Sends hour by hour up to now, empty hours included; with the limit as a line when it is in sight. */
export function HourlyChart({
  hours,
  back,
  limit = null,
  label,
}: {
  hours: { hour: number; sends: number }[];
  back: number;
  limit?: number | null;
  label: string;
}) {
  const sends = new Map(hours.map((one) => [one.hour, one.sends]));
  const newest = Math.floor(Date.now() / HOUR) * HOUR;
  const data = Array.from({ length: back }, (_none, at) => newest - (back - 1 - at) * HOUR).map((hour) => ({
    hour,
    sends: sends.get(hour) ?? 0,
  }));
  const most = Math.max(...data.map((one) => one.sends), 4);
  const total = data.reduce((sum, one) => sum + one.sends, 0);
  const clock = (at: number): string => `${String(new Date(at).getHours()).padStart(2, '0')}:00`;
  return (
    <figure aria-label={`${label}: ${total} in ${back} hours`} className="h-44 w-full">
      <ResponsiveContainer width="100%" height="100%">
        <BarChart data={data} margin={{ top: 8, right: 4, bottom: 0, left: -18 }} barCategoryGap={back > 48 ? 1 : 3}>
          <CartesianGrid vertical={false} stroke="var(--color-base-300)" />
          <XAxis
            dataKey="hour"
            tickFormatter={clock}
            interval={Math.max(0, Math.floor(back / 8) - 1)}
            tick={{ fontSize: 11, fill: 'currentColor' }}
            tickLine={false}
            axisLine={{ stroke: 'var(--color-base-300)' }}
          />
          <YAxis
            allowDecimals={false}
            tick={{ fontSize: 11, fill: 'currentColor' }}
            tickLine={false}
            axisLine={false}
            domain={[0, limit !== null && limit <= most * 2.5 ? Math.max(most, limit) : most]}
          />
          <Tooltip
            cursor={{ fill: 'var(--color-base-300)', opacity: 0.4 }}
            formatter={(value) => [String(value), 'sends']}
            labelFormatter={(at) => `${shortTime(Number(at))}, one hour`}
            contentStyle={{ background: 'var(--color-base-100)', border: '1px solid var(--color-base-300)', borderRadius: 8, fontSize: 12 }}
          />
          {limit !== null && limit <= most * 2.5 ? (
            <ReferenceLine
              y={limit}
              stroke="var(--color-error)"
              strokeDasharray="4 4"
              label={{ value: `limit ${limit}`, position: 'insideTopLeft', fontSize: 11, fill: 'var(--color-error)' }}
            />
          ) : null}
          <Bar dataKey="sends" fill="var(--color-primary)" radius={[3, 3, 0, 0]} isAnimationActive={false} />
        </BarChart>
      </ResponsiveContainer>
    </figure>
  );
}
