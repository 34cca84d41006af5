import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { App, ConfigProvider } from 'antd';
import { lazy, Suspense } from 'react';
import { BrowserRouter, Navigate, Route, Routes } from 'react-router';
import { useMe, useWords } from './api/queries';
import { useLive } from './api/live';
import { nonce } from './nonce';
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
const Arrivals = lazy(async () => ({ default: (await import('./places/arrivals/Arrivals')).Arrivals }));
const Arrival = lazy(async () => ({ default: (await import('./places/arrivals/Arrival')).Arrival }));
const Run = lazy(async () => ({ default: (await import('./places/runs/Run')).Run }));
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
const You = lazy(async () => ({ default: (await import('./places/people/You')).You }));
const Practice = lazy(async () => ({ default: (await import('./places/practice/Practice')).Practice }));
const SignIn = lazy(async () => ({ default: (await import('./places/signin/SignIn')).SignIn }));
const Welcome = lazy(async () => ({ default: (await import('./places/people/Welcome')).Welcome }));

const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } } });

export function Application() {
  return (
    <QueryClientProvider client={queries}>
      <ConfigProvider theme={theme} csp={{ nonce }}>
        <App>
          <BrowserRouter>
            <Gate />
          </BrowserRouter>
        </App>
      </ConfigProvider>
    </QueryClientProvider>
  );
}

function Gate() {
  const me = useMe();
  if (me.isPending) return null;
  if (me.error) return <Trouble error={me.error} again={() => void me.refetch()} />;
  const welcome = /^\/welcome\/([\w-]+)$/.exec(window.location.pathname);
  if (me.data && !welcome) return <Places />;
  return <Suspense fallback={null}>{welcome ? <Welcome token={welcome[1]!} /> : <SignIn />}</Suspense>;
}

function Places() {
  useLive();
  usePageTitle();
  const words = useWords();
  if (words.error) return <Trouble error={words.error} again={() => void words.refetch()} />;
  if (!words.data) return null;
  showZone(words.data.zone);
  return (
    <>
      <TopBar />
      <Suspense fallback={null}>
        <Routes>
          <Route path="/today" element={<Today />} />
          <Route path="/workflows" element={<Workflows />} />
          <Route path="/workflows/new" element={<NewWorkflow />} />
          <Route path="/workflows/:id" element={<SheetPlace />} />
          <Route path="/workflows/:id/rehearsal" element={<RehearsalPlace />} />
          <Route path="/arrivals" element={<Arrivals />} />
          <Route path="/arrivals/:id" element={<Arrival />} />
          <Route path="/runs/:arrival/:workflow" element={<Run />} />
          <Route path="/people" element={<People />} />
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
    </>
  );
}
