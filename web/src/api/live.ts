import { useQueryClient } from '@tanstack/react-query';
import { useEffect } from 'react';
import { renew } from './renew';

/** Which cached answers an event makes stale. */
const stale: Record<string, string[]> = {
  arrivals: ['arrivals', 'today', 'records'],
  decided: ['arrivals', 'workflows', 'today', 'trail', 'runs', 'asks'],
  posts: ['posts', 'destinations', 'today', 'runs'],
  steps: ['runs'],
  workflows: ['workflows'],
  destinations: ['destinations', 'posts', 'today'],
  connections: ['connections', 'sources', 'fields'],
  begun: ['fields', 'records', 'relations', 'trail'],
  today: ['today'],
};

/** Listens to the server and refreshes what has changed, at most every 400 ms. */
export function useLive(): void {
  const cache = useQueryClient();
  useEffect(() => {
    const source = new EventSource('/api/events');
    const due = new Set<string>();
    let timer: number | undefined;
    source.onmessage = (m) => {
      const { topic } = JSON.parse(m.data as string) as { topic: string };
      const keys = topic === 'all' ? Object.values(stale).flat() : (stale[topic] ?? []);
      keys.forEach((k) => due.add(k));
      timer ??= window.setTimeout(() => {
        timer = undefined;
        due.forEach((k) => renew(cache, [k]));
        due.clear();
      }, 400);
    };
    return () => {
      source.close();
      window.clearTimeout(timer);
    };
  }, [cache]);
}
