import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Result, Skeleton } from 'antd';
import { Suspense, lazy } from 'react';
import { Link, NavLink, Route, Routes, useLocation, useNavigate } from 'react-router';
import { signOut } from './api/client';
import { queries } from './api/queries';
import { ErrorBoundary } from './components/error-boundary';
import { Keys } from './components/keys';
import { useLive } from './live/use-live';
import { NowPage } from './pages/now';
import { SignInPage } from './pages/sign-in';
import { TimeControl } from './time/control';
import type { Mode } from './theme';
import { ErrorAlert } from './components/error-alert';

const AlarmsPage = lazy(async () => ({ default: (await import('./pages/alarms')).AlarmsPage }));
const PairsPage = lazy(async () => ({ default: (await import('./pages/pairs')).PairsPage }));
const CheckPage = lazy(async () => ({ default: (await import('./pages/check')).CheckPage }));
const FleetPage = lazy(async () => ({ default: (await import('./pages/fleet')).FleetPage }));
const IncidentPage = lazy(async () => ({
  default: (await import('./pages/incident')).IncidentPage,
}));
const IncidentsPage = lazy(async () => ({
  default: (await import('./pages/incidents')).IncidentsPage,
}));
const HandOverPage = lazy(async () => ({
  default: (await import('./pages/hand-over')).HandOverPage,
}));
const NoticesPage = lazy(async () => ({ default: (await import('./pages/notices')).NoticesPage }));
const RulesPage = lazy(async () => ({ default: (await import('./pages/rules')).RulesPage }));
const DiagnosisPage = lazy(async () => ({
  default: (await import('./pages/diagnosis')).DiagnosisPage,
}));
const PathPage = lazy(async () => ({ default: (await import('./pages/path')).PathPage }));

interface Props {
  mode: Mode;
  onMode: (mode: Mode) => void;
}

function NowherePage() {
  const navigate = useNavigate();
  return (
    <Result
      status="info"
      title="There is no page here"
      extra={<Button onClick={() => void navigate('/')}>Back to what is wrong now</Button>}
    />
  );
}

export function App({ mode, onMode }: Props) {
  const session = useQuery(queries.session());
  const name = session.data?.name ?? null;
  const live = useLive(name !== null);
  const { pathname } = useLocation();
  if (session.error && !session.data) {
    return (
      <main className="page">
        <ErrorAlert error={session.error} />
      </main>
    );
  }
  if (!session.data) return <Skeleton active />;
  if (name === null) return <SignInPage />;
  return (
    <>
      <Head name={name} mode={mode} onMode={onMode} />
      <main className="page">
        {!live && (
          <p role="status" className="said quiet">
            No live updates. This page reloads its data every few seconds.
          </p>
        )}
        <ErrorBoundary key={pathname}>
          <Suspense fallback={<Skeleton active paragraph={{ rows: 10 }} />}>
            <Routes>
              <Route path="/" element={<NowPage />} />
              <Route path="/alarms" element={<AlarmsPage />} />
              <Route path="/incidents" element={<IncidentsPage />} />
              <Route path="/incidents/:id" element={<IncidentPage />} />
              <Route path="/hand-over" element={<HandOverPage />} />
              <Route path="/notices" element={<NoticesPage />} />
              <Route path="/rules" element={<RulesPage />} />
              <Route path="/pairs" element={<PairsPage />} />
              <Route path="/paths/:id" element={<PathPage />} />
              <Route path="/fleet" element={<FleetPage />} />
              <Route path="/checks/:id" element={<CheckPage />} />
              <Route path="/diagnoses/:id" element={<DiagnosisPage />} />
              <Route path="*" element={<NowherePage />} />
            </Routes>
          </Suspense>
        </ErrorBoundary>
      </main>
      <Keys />
    </>
  );
}

function Head({ name, mode, onMode }: Props & { name: string }) {
  const client = useQueryClient();
  const leave = useMutation({
    mutationFn: signOut,
    onSuccess: () => {
      client.setQueryData(['session'], {});
      client.removeQueries({ predicate: ({ queryKey }) => queryKey[0] !== 'session' });
    },
  });
  const other: Mode = mode === 'dark' ? 'light' : 'dark';
  return (
    <header className="head">
      <Link to="/" className="mark">
        <img src="/mark.svg" alt="" />
        Itinera
      </Link>
      <nav aria-label="Pages">
        <NavLink to="/" end>
          Now
        </NavLink>
        <NavLink to="/alarms">Alarms</NavLink>
        <NavLink to="/incidents">Incidents</NavLink>
        <NavLink to="/hand-over">Hand-over</NavLink>
        <NavLink to="/notices">Notices</NavLink>
        <NavLink to="/rules">Rules</NavLink>
        <NavLink to="/pairs">Two-way</NavLink>
        <NavLink to="/fleet">Fleet</NavLink>
      </nav>
      <TimeControl />
      <Button type="text" onClick={() => onMode(other)}>
        {other === 'dark' ? 'Dark' : 'Light'}
      </Button>
      <span className="quiet">{name}</span>
      <Button onClick={() => leave.mutate()} loading={leave.isPending}>
        Sign out
      </Button>
    </header>
  );
}
