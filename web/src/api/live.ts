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
    let source: EventSource;
    let again: number | undefined;
    const due = new Set<string>();
    let timer: number | undefined;
    const heard = (m: MessageEvent) => {
      const { topic } = JSON.parse(m.data as string) as { topic: string };
      const keys = topic === 'all' ? Object.values(stale).flat() : (stale[topic] ?? []);
      keys.forEach((k) => due.add(k));
      timer ??= window.setTimeout(() => {
        timer = undefined;
        due.forEach((k) => renew(cache, [k]));
        due.clear();
      }, 400);
    };
    const listen = () => {
      source = new EventSource('/api/events');
      source.onmessage = heard;
      // A break heals by itself. What the server refuses does not: either nobody is signed in any more, or it is tried again.
      source.onerror = () => {
        if (source.readyState !== EventSource.CLOSED) return;
        fetch('/api/me').then(
          (r) => r.status === 401 && cache.setQueryData(['me'], null),
          () => undefined,
        );
        window.clearTimeout(again);
        again = window.setTimeout(listen, 5000);
      };
    };
    listen();
    return () => {
      source.close();
      window.clearTimeout(again);
      window.clearTimeout(timer);
    };
  }, [cache]);
}
