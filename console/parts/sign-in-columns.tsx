import type { Column } from './list-parts.tsx';
import { ago, count, fullTime } from './words.ts';

interface SignInsFrom {
  client: string;
  service: string;
  times: number;
  first: number;
  last: number;
}

/** From where somebody signed in, or tried to. */
export const FROM: Column<SignInsFrom> = {
  heading: 'From',
  sort: 'client',
  cell: (one) => (
    <>
      {one.client}
      <span className="soft block text-xs">{one.service}</span>
    </>
  ),
};

/** When, and how often. */
export const LAST: Column<SignInsFrom> = {
  heading: 'Last',
  sort: 'last',
  down: true,
  className: 'whitespace-nowrap',
  cell: (one) => (
    <span title={`first ${fullTime(one.first)}`}>
      {ago(one.last)}
      {one.times > 1 ? <span className="soft block text-xs">{count(one.times, 'time')}</span> : null}
    </span>
  ),
};
