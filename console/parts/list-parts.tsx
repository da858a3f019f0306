import { ArrowDown, ArrowUp } from 'lucide-react';
import type { ReactNode } from 'react';

export const PER_PAGE = 50;
/** So many are found by looking. */
export const FEW = 10;

export interface Column<Row> {
  heading: string;
  cell: (row: Row) => ReactNode;
  /** By what the list is sorted when the heading is clicked; `down`: the largest come first then. */
  sort?: string;
  down?: boolean;
  className?: string;
}

/** Chooses all rows that are shown, or none. */
export function ChooseAll({ searchFor, isAll, onChange }: { searchFor: string; isAll: boolean; onChange: (all: boolean) => void }) {
  return (
    <>
      <span className="sr-only">Choose</span>
      <input
        type="checkbox"
        className="checkbox checkbox-sm"
        aria-label={`Choose all ${searchFor} that are shown`}
        checked={isAll}
        onChange={() => onChange(!isAll)}
      />
    </>
  );
}

/** A heading that sorts by its column, the way round that somebody who looks for trouble wants; once more, the other way. */
export function Heading<Row>({
  column: { heading, sort, down = false, className: ofCells = '' },
  asked,
  onChange,
}: {
  column: Omit<Column<Row>, 'cell'>;
  asked: { sort: string; reverse: boolean };
  onChange: (changes: { sort: string; reverse: boolean }) => void;
}) {
  // Only where it stands is the cells’ and the heading’s alike.
  const className = ofCells.includes('text-right') ? 'text-right' : '';
  if (sort === undefined)
    return (
      <th scope="col" className={className}>
        {heading}
      </th>
    );
  const isNow = asked.sort === sort;
  const isDown = down !== asked.reverse;
  const Icon = isDown ? ArrowDown : ArrowUp;
  return (
    <th scope="col" className={className} aria-sort={isNow ? (isDown ? 'descending' : 'ascending') : 'none'}>
      <button
        type="button"
        className="inline-flex cursor-pointer items-center gap-1"
        onClick={() => onChange({ sort, reverse: isNow && !asked.reverse })}
      >
        {heading}
        {isNow ? <Icon size={13} aria-hidden="true" /> : null}
      </button>
    </th>
  );
}

/** How much is shown of how much, and the way on; nothing where all is in sight. */
export function Pager({
  total,
  offset,
  onChange,
  children,
}: {
  total: number;
  offset: number;
  onChange: (offset: number) => void;
  children: ReactNode;
}) {
  if (total <= FEW && offset === 0 && !children) return null;
  return (
    <div className="soft mt-3 flex flex-wrap items-center justify-between gap-2 text-sm">
      <span>
        {Math.min(offset + 1, total).toLocaleString('en')}–{Math.min(offset + PER_PAGE, total).toLocaleString('en')} of{' '}
        {total.toLocaleString('en')}
        {children}
      </span>
      {total > PER_PAGE || offset > 0 ? (
        <span className="join">
          <button
            type="button"
            className="btn btn-sm join-item"
            disabled={offset === 0}
            onClick={() => onChange(Math.max(0, offset - PER_PAGE))}
          >
            Before
          </button>
          <button
            type="button"
            className="btn btn-sm join-item"
            disabled={offset + PER_PAGE >= total}
            onClick={() => onChange(offset + PER_PAGE)}
          >
            Next
          </button>
        </span>
      ) : null}
    </div>
  );
}
