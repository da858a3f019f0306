import { type LucideIcon, Search } from 'lucide-react';
import { type ReactNode, useState } from 'react';
import { useSearchParams } from 'react-router';
import { useCall } from '../api.ts';
import { Answer, Table } from './blocks.tsx';
import { ChooseAll, type Column, FEW, Heading, Pager, PER_PAGE } from './list-parts.tsx';

/** A part of a list, as the API gives it. */
export interface Listed<Row> {
  total: number;
  rows: Row[];
}

/** What can be done to several rows at once. */
export interface Many<Row> {
  name: string;
  icon: LucideIcon;
  onAct: (rows: Row[]) => void;
}

/** What the address says of a list; lists that share a page put their name before it. */
function useAsked(name: string, usual: string) {
  const [params, setParams] = useSearchParams();
  const key = (what: string): string => (name === '' ? what : `${name}-${what}`);
  const offset = Number(params.get(key('offset')) ?? 0);
  const asked = {
    search: params.get(key('search')) ?? '',
    sort: params.get(key('sort')) ?? usual,
    reverse: params.get(key('reverse')) === 'true',
    offset: Number.isSafeInteger(offset) && offset > 0 ? offset : 0,
  };
  const change = (changes: Partial<typeof asked>): void => {
    const next = new URLSearchParams(params);
    const usuals = { search: '', sort: usual, reverse: false, offset: 0 };
    for (const [what, value] of Object.entries({ offset: 0, ...changes })) {
      if (value === usuals[what as keyof typeof usuals]) next.delete(key(what));
      else next.set(key(what), String(value));
    }
    setParams(next, { replace: true });
  };
  return { asked, change };
}

/** A list that the service searches, sorts and gives by pages. What is asked of it is in the address. */
export function Listing<Row>({
  name,
  path,
  fixed,
  everyMs,
  columns,
  usual,
  orders = {},
  keyOf,
  nameOf,
  actions,
  many = [],
  rowClass,
  foot,
  searchFor,
  empty,
}: {
  /** Before its part of the address; empty where it has the page to itself. */
  name: string;
  path: string;
  /** What is always searched for; nothing else can be then. */
  fixed?: string;
  everyMs?: number;
  columns: Column<Row>[];
  /** The order that it has by itself; otherwise that of the first column that has one. */
  usual?: string;
  /** Orders that no column has. */
  orders?: Record<string, string>;
  keyOf: (row: Row) => string | number;
  nameOf: (row: Row) => string;
  actions?: (row: Row, total: number) => ReactNode;
  many?: Many<Row>[];
  rowClass?: (row: Row) => string;
  /** Stands beside the number of rows. */
  foot?: (rows: Row[]) => ReactNode;
  searchFor: string;
  empty: ReactNode;
}) {
  const byHeading = columns.flatMap((one): [string, string][] => (one.sort ? [[one.sort, one.heading]] : []));
  const { asked, change } = useAsked(name, usual ?? byHeading[0]?.[0] ?? '');
  const query = useCall<Listed<Row>>(
    `${path}?${new URLSearchParams({ ...asked, search: fixed ?? asked.search, reverse: String(asked.reverse), offset: String(asked.offset), limit: String(PER_PAGE) })}`,
    everyMs === undefined ? {} : { everyMs },
  );
  const [chosen, setChosen] = useState<Row[]>([]);
  const isChosen = (row: Row): boolean => chosen.some((one) => keyOf(one) === keyOf(row));
  const isSearched = asked.search !== '';
  const isPage = name === '';
  return (
    <>
      {fixed === undefined && (isSearched || isPage || (query.data?.total ?? 0) > FEW) ? (
        <div className="mb-3 flex flex-wrap gap-2">
          <label className="input input-sm w-full sm:w-72">
            <Search size={14} aria-hidden="true" />
            <input
              type="search"
              aria-label={`Search ${searchFor}`}
              placeholder={`Search ${searchFor}`}
              value={asked.search}
              onChange={(event) => change({ search: event.target.value })}
            />
          </label>
          <select
            className="select select-sm w-auto"
            aria-label={`Order of ${searchFor}`}
            value={asked.sort}
            onChange={(event) => change({ sort: event.target.value, reverse: false })}
          >
            {[...byHeading, ...Object.entries(orders)].map(([value, words]) => (
              <option key={value} value={value}>
                by {words.toLowerCase()}
              </option>
            ))}
          </select>
        </div>
      ) : null}
      <Answer query={query} rows={8}>
        {({ total, rows }) =>
          total === 0 ? (
            isSearched ? (
              <div className="soft flex flex-col items-center gap-3 py-6 text-sm">
                <p>
                  None of the {searchFor} matches “{asked.search}”.
                </p>
                <button type="button" className="btn btn-sm" onClick={() => change({ search: '' })}>
                  Show all
                </button>
              </div>
            ) : (
              empty
            )
          ) : (
            <>
              {chosen.length > 0 ? (
                <div className="mb-2 flex flex-wrap items-center gap-2 text-sm">
                  <span className="mr-auto" role="status">
                    {chosen.length} chosen
                  </span>
                  {many.map(({ name: act, icon: Icon, onAct }) => (
                    <button
                      key={act}
                      type="button"
                      className="btn btn-sm"
                      onClick={() => {
                        onAct(chosen);
                        setChosen([]);
                      }}
                    >
                      <Icon size={14} aria-hidden="true" /> {act} the selected …
                    </button>
                  ))}
                </div>
              ) : null}
              <div className="overflow-x-auto">
                <Table>
                  <thead>
                    <tr>
                      {many.length > 0 ? (
                        <th scope="col" className="w-8">
                          <ChooseAll
                            searchFor={searchFor}
                            isAll={rows.length > 0 && rows.every(isChosen)}
                            onChange={(all) => setChosen(all ? rows : [])}
                          />
                        </th>
                      ) : null}
                      {columns.map((column) => (
                        <Heading key={column.heading} column={column} asked={asked} onChange={change} />
                      ))}
                      {actions ? (
                        <th scope="col">
                          <span className="sr-only">Actions</span>
                        </th>
                      ) : null}
                    </tr>
                  </thead>
                  <tbody>
                    {rows.map((row) => (
                      <tr key={keyOf(row)} className={`hover:bg-base-200/60 ${rowClass?.(row) ?? ''}`}>
                        {many.length > 0 ? (
                          <td>
                            <input
                              type="checkbox"
                              className="checkbox checkbox-sm"
                              aria-label={`Choose ${nameOf(row)}`}
                              checked={isChosen(row)}
                              onChange={() =>
                                setChosen(isChosen(row) ? chosen.filter((one) => keyOf(one) !== keyOf(row)) : [...chosen, row])
                              }
                            />
                          </td>
                        ) : null}
                        {columns.map((column) => (
                          <td key={column.heading} className={column.className}>
                            {column.cell(row)}
                          </td>
                        ))}
                        {actions ? <td className="whitespace-nowrap text-right">{actions(row, total)}</td> : null}
                      </tr>
                    ))}
                  </tbody>
                </Table>
              </div>
              <Pager total={total} offset={asked.offset} onChange={(offset) => change({ offset })}>
                {foot?.(rows)}
              </Pager>
            </>
          )
        }
      </Answer>
    </>
  );
}
