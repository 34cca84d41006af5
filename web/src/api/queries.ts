import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { ApiError, api, answerOf, type Person } from './client';

export const useMe = () =>
  useQuery<Person | null>({
    queryKey: ['me'],
    queryFn: async () => {
      try {
        return await answerOf(api.GET('/api/me'));
      } catch (e) {
        if (e instanceof ApiError && e.status === 401) return null;
        throw e;
      }
    },
    staleTime: Infinity,
  });

export const useWorkflows = () =>
  useQuery({ queryKey: ['workflows'], queryFn: () => answerOf(api.GET('/api/workflows')) });

/** Makes a workflow of a sheet; a name that is taken gets a number. */
export async function makeWorkflow(sheet: { name?: string }) {
  const list = await answerOf(api.GET('/api/workflows'));
  const taken = new Set((list.items ?? []).map((w) => w.name));
  const base = sheet.name || 'New workflow';
  let name = base;
  for (let i = 2; taken.has(name); i++) name = `${base} ${i}`;
  return answerOf(api.POST('/api/workflows', { body: { sheet: { ...sheet, name } } }));
}

export const useWords = () =>
  useQuery({ queryKey: ['words'], queryFn: () => answerOf(api.GET('/api/words')), staleTime: Infinity });

export const useSources = () =>
  useQuery({ queryKey: ['sources'], queryFn: () => answerOf(api.GET('/api/sources')), staleTime: 30_000 });

/** How a source's fields are asked for. */
export const fieldsOf = (source: string) => ({
  queryKey: ['fields', source],
  enabled: source.includes('/'),
  queryFn: () => {
    const [connection = '', kind = ''] = source.split('/');
    return answerOf(
      api.GET('/api/sources/{connection}/{kind}/fields', { params: { path: { connection, kind } } }),
    );
  },
  staleTime: 60_000,
});

export const useFields = (source: string) => useQuery(fieldsOf(source));

export const useDestinations = () =>
  useQuery({ queryKey: ['destinations'], queryFn: () => answerOf(api.GET('/api/destinations')) });

export const useConnections = () =>
  useQuery({ queryKey: ['connections'], queryFn: () => answerOf(api.GET('/api/connections')) });

export const useToday = () =>
  useQuery({ queryKey: ['today'], queryFn: () => answerOf(api.GET('/api/today')) });

export interface ArrivalFilter {
  source?: string;
  q?: string;
  verdict?: 'told' | 'repeated' | 'held' | 'dropped' | 'unrouted' | 'failed' | 'ignored';
  workflow?: number;
  since?: string;
  until?: string;
}

export const useArrivals = (filter: ArrivalFilter) =>
  useInfiniteQuery({
    queryKey: ['arrivals', filter],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      answerOf(
        api.GET('/api/arrivals', {
          params: { query: { ...filter, before: pageParam || undefined, limit: 40 } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: keepPreviousData,
  });

export const useArrival = (id: number) =>
  useQuery({
    queryKey: ['arrivals', 'one', id],
    queryFn: () => answerOf(api.GET('/api/arrivals/{id}', { params: { path: { id } } })),
  });

export interface PostFilter {
  state?: 'waiting' | 'held' | 'sent' | 'refused' | 'given up' | 'dropped' | 'expired';
  destination?: string;
  post?: number;
  q?: string;
}

export const usePosts = (filter: PostFilter) =>
  useInfiniteQuery({
    queryKey: ['posts', filter],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      answerOf(
        api.GET('/api/posts', {
          params: { query: { ...filter, before: pageParam || undefined, limit: 40 } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: keepPreviousData,
  });

export const usePost = (id: number) =>
  useQuery({
    queryKey: ['posts', 'one', id],
    queryFn: () => answerOf(api.GET('/api/posts/{id}', { params: { path: { id } } })),
  });

/** Questions that workflows have put to people: those that wait for whoever looks, or all. */
export const useAsks = (of: 'me' | 'all', state: 'open' | 'decided' | 'withdrawn' | 'any') =>
  useInfiniteQuery({
    queryKey: ['asks', of, state],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      answerOf(
        api.GET('/api/asks', { params: { query: { of, state, before: pageParam || undefined, limit: 40 } } }),
      ),
    getNextPageParam: (last) => last.next || undefined,
  });

export const useAsk = (id: number) =>
  useQuery({
    queryKey: ['asks', 'one', id],
    queryFn: () => answerOf(api.GET('/api/asks/{id}', { params: { path: { id } } })),
  });

/** The questions that were put about one arrival by one workflow. */
export const useAsksOf = (arrival: number, workflow: number) =>
  useQuery({
    queryKey: ['asks', 'of', arrival, workflow],
    queryFn: () =>
      answerOf(api.GET('/api/asks', { params: { query: { of: 'all', state: 'any', arrival, workflow } } })),
  });

/** The pages that are shared with people without an account: of a post, or of a workflow. */
export const useShares = (of: { post?: number; workflow?: number; limit?: number }) =>
  useQuery({
    queryKey: ['shares', of],
    queryFn: () => answerOf(api.GET('/api/shares', { params: { query: of } })),
  });

/** What people did with what a run told. */
export const useAlert = (arrival: number, workflow: number) =>
  useQuery({
    queryKey: ['runs', 'alert', arrival, workflow],
    queryFn: () =>
      answerOf(api.GET('/api/runs/{arrival}/{workflow}/alert', { params: { path: { arrival, workflow } } })),
  });

export const useRun = (arrival: number, workflow: number) =>
  useQuery({
    queryKey: ['runs', arrival, workflow],
    queryFn: () =>
      answerOf(api.GET('/api/runs/{arrival}/{workflow}', { params: { path: { arrival, workflow } } })),
  });

export const useTeams = () =>
  useQuery({ queryKey: ['teams'], queryFn: () => answerOf(api.GET('/api/teams')), staleTime: 30_000 });

export const usePeople = () =>
  useQuery({ queryKey: ['people'], queryFn: () => answerOf(api.GET('/api/people')) });

export const useKinds = () =>
  useQuery({
    queryKey: ['kinds'],
    queryFn: () => answerOf(api.GET('/api/connection-kinds')),
    staleTime: Infinity,
  });

/** Which fields of a source name records of others. */
export const useRelations = (source: string) =>
  useQuery({
    queryKey: ['relations', source],
    enabled: source.includes('/'),
    queryFn: () =>
      answerOf(
        api.GET('/api/sources/{connection}/{kind}/relations', { params: { path: sourcePath(source) } }),
      ),
    staleTime: 60_000,
  });

export const useConnection = (id: string) =>
  useQuery({
    queryKey: ['connections', id],
    queryFn: () => answerOf(api.GET('/api/connections/{id}', { params: { path: { id } } })),
  });

/** The two halves of a source's name, as the API takes them. */
export const sourcePath = (source: string) => {
  const i = source.indexOf('/');
  return { connection: source.slice(0, i), kind: source.slice(i + 1) };
};

export const useRecords = (source: string, q: string) =>
  useInfiniteQuery({
    queryKey: ['records', source, q],
    enabled: source.includes('/'),
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      answerOf(
        api.GET('/api/sources/{connection}/{kind}/records', {
          params: { path: sourcePath(source), query: { q: q || undefined, offset: pageParam, limit: 20 } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: (before, query) => (query?.queryKey[1] === source ? before : undefined),
  });

export const useFound = (source: string, q: string) =>
  useQuery({
    queryKey: ['found', source, q],
    enabled: source.includes('/') && q.trim().length > 1,
    queryFn: () =>
      answerOf(
        api.GET('/api/sources/{connection}/{kind}/find', {
          params: { path: sourcePath(source), query: { q } },
        }),
      ),
    placeholderData: (before, query) => (query?.queryKey[1] === source ? before : undefined),
  });

/**
 * What a new part of a sheet names until another is chosen: the source that most workflows watch, and a channel for
 * practice where there is one, so that nobody is told by accident.
 */
export function useStarters(): { source: string; key: string; channel: string; ready: boolean } {
  const [workflows, sources, destinations] = [useWorkflows(), useSources(), useDestinations()];
  const watched = (source: string) => (workflows.data?.items ?? []).filter((w) => w.source === source).length;
  const ranked = [...(sources.data?.items ?? [])].sort((a, b) => watched(b.source) - watched(a.source));
  const channels = destinations.data?.items ?? [];
  const channel = channels.find((d) => d.title.includes('practice')) ?? channels[0];
  return {
    source: ranked[0]?.source ?? '',
    key: ranked[0]?.key_field ?? 'id',
    channel: channel?.name ?? '',
    ready: !workflows.isPending && !sources.isPending && !destinations.isPending,
  };
}
