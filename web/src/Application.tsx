import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { lazy, Suspense, useEffect } from 'react';
import { ApiError } from './api/client';
import { useMe } from './api/queries';
import { Guard } from './parts/Guard';
import { PlainTrouble } from './parts/PlainTrouble';
import { SignIn } from './places/signin/SignIn';

// Signing in needs little; the rest comes meanwhile.
const inside = () => import('./Inside');
const Inside = lazy(async () => ({ default: (await inside()).Inside }));

// Whoever is signed out meanwhile, or let go, is led to the sign-in by whatever is asked next.
const signedOut = (e: Error) => {
  if (e instanceof ApiError && e.status === 401) queries.setQueryData(['me'], null);
};

const queries: QueryClient = new QueryClient({
  queryCache: new QueryCache({ onError: signedOut }),
  mutationCache: new MutationCache({ onError: signedOut }),
  defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } },
});

export function Application() {
  return (
    <QueryClientProvider client={queries}>
      <Guard what="Dorfbote" place>
        <Gate />
      </Guard>
    </QueryClientProvider>
  );
}

function Gate() {
  const me = useMe();
  useEffect(() => {
    if (!me.isPending) void inside();
  }, [me.isPending]);
  if (me.isPending) return null;
  if (me.error)
    return (
      <PlainTrouble what="That did not work." ways={[['Try again', () => void me.refetch()]]}>
        {me.error.message}
      </PlainTrouble>
    );
  const invitation = /^\/welcome\/([\w-]+)$/.exec(window.location.pathname)?.[1];
  if (!me.data && !invitation) return <SignIn />;
  return (
    <Suspense fallback={null}>
      <Inside invitation={invitation} />
    </Suspense>
  );
}
