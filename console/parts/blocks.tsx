import { ChevronRight, Inbox, type LucideIcon, RotateCw } from 'lucide-react';
import { type ReactNode, useEffect, useRef } from 'react';
import { Link, useLocation } from 'react-router';
import type { CallProblem } from '../api.ts';

/** The address of the page that was shown last; the first one is where the browser puts it. */
let lastPath: string | null = null;

export function PageHead({ title, path, children }: { title: ReactNode; path?: { to: string; name: string }[]; children?: ReactNode }) {
  const { pathname } = useLocation();
  const heading = useRef<HTMLHeadingElement>(null);
  // Tabs and histories tell pages apart by their titles.
  useEffect(() => {
    const words = heading.current?.textContent ?? '';
    document.title = words === '' ? 'Tenedor' : `${words} – Tenedor`;
  });
  // Whoever goes to another page is there with the keyboard, and with what reads it aloud.
  useEffect(() => {
    if (lastPath !== null && lastPath !== pathname) heading.current?.focus({ preventScroll: true });
    lastPath = pathname;
  }, [pathname]);
  return (
    <header className="mb-5 flex flex-wrap items-end justify-between gap-3">
      <div className="min-w-0">
        {path ? (
          <nav aria-label="Path" className="soft mb-1 flex items-center gap-1 text-sm">
            {path.map((one) => (
              <span key={one.to} className="flex items-center gap-1">
                <Link to={one.to} className="link link-hover">
                  {one.name}
                </Link>
                <ChevronRight size={14} aria-hidden="true" />
              </span>
            ))}
          </nav>
        ) : null}
        <h1 ref={heading} tabIndex={-1} className="font-semibold text-2xl tracking-tight outline-none [overflow-wrap:anywhere]">
          {title}
        </h1>
      </div>
      <div className="flex flex-wrap items-center gap-2">{children}</div>
    </header>
  );
}

export function Panel({
  title,
  aside,
  children,
  className = '',
}: {
  title?: string;
  aside?: ReactNode;
  children: ReactNode;
  className?: string;
}) {
  return (
    <section className={`panel min-w-0 p-4 ${className}`} aria-label={title}>
      {title ? (
        <div className="mb-3 flex flex-wrap items-center justify-between gap-2">
          <h2 className="font-semibold">{title}</h2>
          {aside}
        </div>
      ) : null}
      {children}
    </section>
  );
}

/** A call's three faces: not there yet, refused, there. */
export function Answer<T>({
  query,
  children,
  rows = 4,
}: {
  query: { data: T | undefined; error: CallProblem | null; refetch: () => unknown };
  children: (data: T) => ReactNode;
  rows?: number;
}) {
  if (query.error && query.data === undefined)
    return (
      <ProblemNote problem={query.error}>
        <button type="button" className="btn btn-sm" onClick={() => query.refetch()}>
          <RotateCw size={14} aria-hidden="true" /> Try again
        </button>
      </ProblemNote>
    );
  if (query.data === undefined)
    return (
      <div role="status" aria-label="Loading" className="space-y-3 py-2">
        {Array.from({ length: rows }, (_none, at) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: bars without any content of their own
          <div key={at} className="skeleton h-6 w-full" />
        ))}
      </div>
    );
  return (
    <>
      {query.error ? <ProblemNote problem={query.error} /> : null}
      {children(query.data)}
    </>
  );
}

export function ProblemNote({ problem, children }: { problem: CallProblem; children?: ReactNode }) {
  return (
    <div role="alert" className="my-2 rounded-box border border-error/40 bg-error/8 p-3 text-sm">
      <p className="font-medium">{problem.detail}</p>
      <p className="soft">{problem.remedy}</p>
      {children ? <div className="mt-2">{children}</div> : null}
    </div>
  );
}

export function Empty({ children, action }: { children: ReactNode; action?: ReactNode }) {
  return (
    <div className="soft flex flex-col items-center gap-3 py-10 text-center text-sm">
      <Inbox size={28} strokeWidth={1.4} aria-hidden="true" />
      <p className="max-w-md">{children}</p>
      {action}
    </div>
  );
}

/** A button that shows a sign only; `label` says what it does to what. */
export function IconButton({
  icon: Icon,
  label,
  title,
  onClick,
  disabled = false,
}: {
  icon: LucideIcon;
  label: string;
  title: string;
  onClick: () => void;
  disabled?: boolean;
}) {
  return (
    <button
      type="button"
      className="btn btn-ghost btn-sm btn-square"
      aria-label={label}
      title={title}
      disabled={disabled}
      onClick={onClick}
    >
      <Icon size={15} aria-hidden="true" />
    </button>
  );
}

/**
 * A table that becomes a list in a narrow window: each cell is a line then, with the heading of its column before it. Headings are read off
 * the table itself, also for rows that come later.
 */
export function Table({ label, className = '', children }: { label?: string; className?: string; children: ReactNode }) {
  const table = useRef<HTMLTableElement>(null);
  useEffect(() => {
    const element = table.current;
    if (!element) return;
    const name = (): void => {
      const headings = [...element.querySelectorAll('thead th')].map((one) =>
        one.querySelector('.sr-only') ? '' : (one.textContent ?? ''),
      );
      for (const row of element.querySelectorAll('tbody tr'))
        for (const [at, cell] of [...row.children].entries())
          if (cell.getAttribute('data-heading') === null) cell.setAttribute('data-heading', headings[at] ?? '');
    };
    name();
    const observer = new MutationObserver(name);
    observer.observe(element, { childList: true, subtree: true });
    return () => observer.disconnect();
  }, []);
  return (
    <table ref={table} className={`table table-sm listed ${className}`} aria-label={label}>
      {children}
    </table>
  );
}

/** A table inside a panel: headings, and rows that the caller makes. The last column, for actions, has no heading. */
export function DataTable({ headings, children }: { headings: string[]; children: ReactNode }) {
  return (
    <div className="overflow-x-auto">
      <Table>
        <thead>
          <tr>
            {headings.map((heading) => (
              <th key={heading} scope="col">
                {heading}
              </th>
            ))}
            <th scope="col">
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </Table>
    </div>
  );
}

/** Parts of a page of which one is shown; the caller keeps which. */
export function Tabs<Key extends string>({
  label,
  tabs,
  now,
  onChange,
}: {
  label: string;
  tabs: Record<Key, string>;
  now: Key;
  onChange: (key: Key) => void;
}) {
  return (
    <div role="tablist" aria-label={label} className="tabs tabs-border mb-4 overflow-x-auto">
      {(Object.entries(tabs) as [Key, string][]).map(([key, title]) => (
        <button
          key={key}
          type="button"
          role="tab"
          aria-selected={key === now}
          className={`tab ${key === now ? 'tab-active font-medium' : ''}`}
          onClick={() => onChange(key)}
        >
          {title}
        </button>
      ))}
    </div>
  );
}
