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
import { Arrival } from './places/arrivals/Arrival';
import { Arrivals } from './places/arrivals/Arrivals';
import { Connect } from './places/connections/Connect';
import { Connection } from './places/connections/Connection';
import { Connections } from './places/connections/Connections';
import { Source } from './places/connections/Source';
import { Outbox } from './places/outbox/Outbox';
import { People } from './places/people/People';
import { Welcome } from './places/people/Welcome';
import { You } from './places/people/You';
import { Practice } from './places/practice/Practice';
import { SignIn } from './places/signin/SignIn';
import { Today } from './places/today/Today';
import { Workflows } from './places/workflows/Workflows';
import { theme } from './theme';

// The places where sheets are edited come when they are first gone to: their composer is large.
const SheetPlace = lazy(async () => ({ default: (await import('./places/sheet/SheetPlace')).SheetPlace }));
const Run = lazy(async () => ({ default: (await import('./places/runs/Run')).Run }));
const RehearsalPlace = lazy(async () => ({
  default: (await import('./places/rehearsal/RehearsalPlace')).RehearsalPlace,
}));
const NewWorkflow = lazy(async () => ({
  default: (await import('./places/drafting/NewWorkflow')).NewWorkflow,
}));

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
  if (welcome) return <Welcome token={welcome[1]!} />;
  return me.data ? <Places /> : <SignIn />;
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
