import { App, ConfigProvider } from 'antd';
import { lazy, Suspense, useEffect, type ReactNode } from 'react';
import { BrowserRouter, Navigate, Route, Routes, useLocation, useParams } from 'react-router';
import { useLive } from './api/live';
import { useWords } from './api/queries';
import { nonce } from './nonce';
import { Guard } from './parts/Guard';
import { showZone } from './parts/times';
import { TopBar } from './parts/TopBar';
import { Trouble } from './parts/Trouble';
import { usePageTitle } from './parts/usePageTitle';
import { theme } from './theme';

// Each place comes when it is first gone to.
const Today = lazy(async () => ({ default: (await import('./places/today/Today')).Today }));
const Workflows = lazy(async () => ({ default: (await import('./places/workflows/Workflows')).Workflows }));
const NewWorkflow = lazy(async () => ({
  default: (await import('./places/drafting/NewWorkflow')).NewWorkflow,
}));
const SheetPlace = lazy(async () => ({ default: (await import('./places/sheet/SheetPlace')).SheetPlace }));
const RehearsalPlace = lazy(async () => ({
  default: (await import('./places/rehearsal/RehearsalPlace')).RehearsalPlace,
}));
const WorthPlace = lazy(async () => ({
  default: (await import('./places/rehearsal/WorthPlace')).WorthPlace,
}));
const Arrivals = lazy(async () => ({ default: (await import('./places/arrivals/Arrivals')).Arrivals }));
const Arrival = lazy(async () => ({ default: (await import('./places/arrivals/Arrival')).Arrival }));
const Run = lazy(async () => ({ default: (await import('./places/runs/Run')).Run }));
const Asked = lazy(async () => ({ default: (await import('./places/asked/Asked')).Asked }));
const Outbox = lazy(async () => ({ default: (await import('./places/outbox/Outbox')).Outbox }));
const Connections = lazy(async () => ({
  default: (await import('./places/connections/Connections')).Connections,
}));
const Connect = lazy(async () => ({ default: (await import('./places/connections/Connect')).Connect }));
const Connection = lazy(async () => ({
  default: (await import('./places/connections/Connection')).Connection,
}));
const Source = lazy(async () => ({ default: (await import('./places/connections/Source')).Source }));
const People = lazy(async () => ({ default: (await import('./places/people/People')).People }));
const Book = lazy(async () => ({ default: (await import('./places/people/Book')).Book }));
const You = lazy(async () => ({ default: (await import('./places/people/You')).You }));
const Practice = lazy(async () => ({ default: (await import('./places/practice/Practice')).Practice }));
const Welcome = lazy(async () => ({ default: (await import('./places/people/Welcome')).Welcome }));

/** What a list that offers nothing says. */
const nothing = () => <span className="muted small">Nothing to choose from</span>;

/** The application's look, and its addresses. */
function Look({ children }: { children: ReactNode }) {
  return (
    <ConfigProvider theme={theme} csp={{ nonce }} renderEmpty={nothing}>
      <App>
        <BrowserRouter>{children}</BrowserRouter>
      </App>
    </ConfigProvider>
  );
}

/** What an invitation leads to, or, without one, the places for whoever is signed in. */
export function Inside({ invitation }: { invitation: string | undefined }) {
  return (
    <Look>
      {invitation ? (
        <Suspense fallback={null}>
          <Welcome token={invitation} />
        </Suspense>
      ) : (
        <Places />
      )}
    </Look>
  );
}

/** Back to a button's page, now that it is known who presses. */
function Press() {
  const { token = '' } = useParams();
  useEffect(() => globalThis.location.replace(`/act/${encodeURIComponent(token)}`), [token]);
  return null;
}

function Places() {
  useLive();
  usePageTitle();
  const words = useWords();
  const { pathname } = useLocation();
  if (words.error) return <Trouble error={words.error} again={() => void words.refetch()} />;
  if (!words.data) return null;
  showZone(words.data.zone);
  return (
    <>
      <TopBar />
      <Guard what="This page" of={pathname} place>
        <Suspense fallback={null}>
          <Routes>
            <Route path="/today" element={<Today />} />
            <Route path="/workflows" element={<Workflows />} />
            <Route path="/workflows/new" element={<NewWorkflow />} />
            <Route path="/workflows/:id" element={<SheetPlace />} />
            <Route path="/workflows/:id/rehearsal" element={<RehearsalPlace />} />
            <Route path="/workflows/:id/worth" element={<WorthPlace />} />
            <Route path="/arrivals" element={<Arrivals />} />
            <Route path="/arrivals/:id" element={<Arrival />} />
            <Route path="/runs/:arrival/:workflow" element={<Run />} />
            <Route path="/asked" element={<Asked />} />
            <Route path="/asked/:id" element={<Asked />} />
            <Route path="/press/:token" element={<Press />} />
            <Route path="/people" element={<People />} />
            <Route path="/people-book" element={<Book />} />
            <Route path="/you" element={<You />} />
            <Route path="/outbox" element={<Outbox />} />
            <Route path="/connections" element={<Connections />} />
            <Route path="/connections/new" element={<Connect />} />
            <Route path="/connections/:id" element={<Connection />} />
            <Route path="/sources/:connection/:kind" element={<Source />} />
            <Route path="/practice" element={<Practice />} />
            <Route path="*" element={<Navigate to="/today" replace />} />
          </Routes>
        </Suspense>
      </Guard>
    </>
  );
}
