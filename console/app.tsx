import { useQuery, useQueryClient } from '@tanstack/react-query';
import {
  BadgeCheck,
  DatabaseBackup,
  FlaskConical,
  Gauge,
  Globe,
  Hourglass,
  KeyRound,
  LogOut,
  Menu,
  Monitor,
  Moon,
  Route as RouteIcon,
  Server,
  Split,
  Sun,
  Users,
} from 'lucide-react';
import { useState } from 'react';
import { Link, NavLink, Route, Routes, useLocation } from 'react-router';
import type { Session } from '../src/api/access-schemas.ts';
import { type CallProblem, call, keepGuard } from './api.ts';
import { AccessPage } from './pages/access.tsx';
import { CertificatesPage } from './pages/certificates.tsx';
import { CustomersPage } from './pages/customers.tsx';
import { DomainPage } from './pages/domain.tsx';
import { DomainsPage } from './pages/domains.tsx';
import { HostPage } from './pages/host.tsx';
import { JourneyPage } from './pages/journey.tsx';
import { OutletsPage } from './pages/outlets.tsx';
import { OverviewPage } from './pages/overview.tsx';
import { QueuePage } from './pages/queue.tsx';
import { SignInPage } from './pages/sign-in.tsx';
import { TestsPage } from './pages/tests.tsx';
import { TrafficPage } from './pages/traffic.tsx';
import { UpkeepPage } from './pages/upkeep.tsx';
import { Empty, PageHead, ProblemNote } from './parts/blocks.tsx';
import { FaultBoundary } from './parts/fault.tsx';
import { applyTheme, keptTheme, type Theme } from './parts/theme.ts';

const PAGES = [
  { to: '/', name: 'Overview', icon: Gauge },
  { to: '/domains', name: 'Domains', icon: Globe },
  { to: '/traffic', name: 'Traffic', icon: RouteIcon },
  { to: '/queue', name: 'Queue', icon: Hourglass },
  { to: '/outlets', name: 'Outlets', icon: Split },
  { to: '/customers', name: 'Customers', icon: Users },
  { to: '/certificates', name: 'Certificates', icon: BadgeCheck },
  { to: '/tests', name: 'Tests', icon: FlaskConical },
  { to: '/upkeep', name: 'Upkeep', icon: DatabaseBackup },
  { to: '/host', name: 'Host', icon: Server },
  { to: '/access', name: 'Access', icon: KeyRound },
];

export function App() {
  const { pathname, search } = useLocation();
  const client = useQueryClient();
  const session = useQuery<Session, CallProblem>({
    queryKey: ['session'],
    queryFn: async () => {
      const found = await call<Session>('GET', '/session');
      keepGuard(found);
      return found;
    },
    // When the service is gone the page comes back by itself.
    refetchInterval: (query) => (query.state.error ? 5000 : 60_000),
  });
  if (session.error?.code === 'not-signed-in') return <SignInPage onSignedIn={() => client.resetQueries()} />;
  if (session.error && !session.data)
    return (
      <main className="mx-auto max-w-lg p-8">
        <ProblemNote problem={session.error} />
      </main>
    );
  if (!session.data)
    return (
      <main className="grid min-h-screen place-items-center">
        <span className="loading loading-ring loading-lg text-primary" role="status" aria-label="Loading" />
      </main>
    );
  return (
    <div className="min-h-screen bg-base-200 text-base-content lg:grid lg:grid-cols-[13rem_1fr]">
      <a href="#page" className="btn btn-primary btn-sm sr-only focus:not-sr-only focus:absolute focus:z-10 focus:m-2">
        Go to the page
      </a>
      <Side account={session.data.account} />
      <main id="page" className="mx-auto w-full min-w-0 max-w-6xl p-4 lg:p-6">
        <FaultBoundary address={`${pathname}${search}`}>
          <Routes>
            <Route path="/" element={<OverviewPage />} />
            <Route path="/sign-in" element={<OverviewPage />} />
            <Route path="/domains" element={<DomainsPage />} />
            <Route path="/domains/:name" element={<DomainPage />} />
            <Route path="/traffic" element={<TrafficPage />} />
            <Route path="/traffic/:id" element={<JourneyPage />} />
            <Route path="/queue" element={<QueuePage />} />
            <Route path="/outlets" element={<OutletsPage />} />
            <Route path="/certificates" element={<CertificatesPage />} />
            <Route path="/tests" element={<TestsPage />} />
            <Route path="/upkeep" element={<UpkeepPage />} />
            <Route path="/customers" element={<CustomersPage />} />
            <Route path="/host" element={<HostPage />} />
            <Route path="/access" element={<AccessPage />} />
            <Route
              path="*"
              element={
                <>
                  <PageHead title="No such page" />
                  <Empty
                    action={
                      <Link className="btn btn-sm" to="/">
                        Go to the overview
                      </Link>
                    }
                  >
                    There is no page at this address.
                  </Empty>
                </>
              }
            />
          </Routes>
        </FaultBoundary>
      </main>
    </div>
  );
}

function Side({ account }: { account: string }) {
  const client = useQueryClient();
  const { pathname } = useLocation();
  // On a narrow screen the pages are folded away: eleven of them are a third of it.
  const [openAt, setOpenAt] = useState<string | null>(null);
  const isOpen = openAt === pathname;
  const signOut = async (): Promise<void> => {
    await call('DELETE', '/session').catch(() => {});
    client.clear();
    await client.resetQueries();
    location.assign('/');
  };
  return (
    <aside className="flex flex-wrap items-center gap-x-4 border-base-300 border-b bg-base-100 p-3 lg:sticky lg:top-0 lg:h-screen lg:flex-col lg:flex-nowrap lg:items-stretch lg:border-r lg:border-b-0">
      <Link to="/" className="flex items-center gap-2 px-2 py-1 font-semibold text-lg tracking-tight">
        <img src="/fork.svg" alt="" width={26} height={26} />
        Tenedor
      </Link>
      <button
        type="button"
        className="btn btn-ghost btn-sm sm:hidden"
        aria-expanded={isOpen}
        aria-controls="pages"
        onClick={() => setOpenAt(isOpen ? null : pathname)}
      >
        <Menu size={16} aria-hidden="true" />
        {PAGES.find(({ to }) => (to === '/' ? pathname === '/' : pathname.startsWith(to)))?.name ?? 'Pages'}
      </button>
      <nav
        id="pages"
        aria-label="Pages"
        className={`order-last w-full grid-cols-4 gap-1 sm:flex sm:flex-wrap lg:order-none lg:mt-4 lg:flex-col lg:flex-nowrap ${isOpen ? 'grid' : 'hidden'}`}
      >
        {PAGES.map(({ to, name, icon: Icon }) => (
          <NavLink
            key={to}
            to={to}
            end={to === '/'}
            className={({ isActive }) =>
              `flex shrink-0 flex-col items-center gap-1 rounded-field px-1 py-1.5 text-xs sm:flex-row sm:gap-2 sm:px-2.5 sm:text-sm ${isActive ? 'bg-primary text-primary-content' : 'hover:bg-base-200'}`
            }
          >
            <Icon size={16} aria-hidden="true" />
            {name}
          </NavLink>
        ))}
      </nav>
      <div className="ml-auto flex items-center gap-1 lg:mt-auto lg:ml-0 lg:justify-between">
        <span className="soft hidden px-2 text-sm lg:inline">{account}</span>
        <span className="flex">
          <ThemeButton />
          <button type="button" className="btn btn-ghost btn-sm btn-square" aria-label="Sign out" title="Sign out" onClick={signOut}>
            <LogOut size={16} aria-hidden="true" />
          </button>
        </span>
      </div>
    </aside>
  );
}

const NEXT: Record<Theme, { theme: Theme; icon: typeof Sun; now: string }> = {
  system: { theme: 'light', icon: Monitor, now: 'as the system' },
  light: { theme: 'dark', icon: Sun, now: 'light' },
  dark: { theme: 'system', icon: Moon, now: 'dark' },
};

function ThemeButton() {
  const [theme, setTheme] = useState<Theme>(keptTheme());
  const { icon: Icon, now, theme: next } = NEXT[theme];
  return (
    <button
      type="button"
      className="btn btn-ghost btn-sm btn-square"
      aria-label={`Colours: ${now}. Change to ${NEXT[next].now}`}
      title={`Colours: ${now}`}
      onClick={() => {
        applyTheme(next);
        setTheme(next);
      }}
    >
      <Icon size={16} aria-hidden="true" />
    </button>
  );
}
