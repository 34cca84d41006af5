import type { QueryClient } from '@tanstack/react-query';

/**
 * Asks again for everything under a key. A first answer that is still on its way may have been made before what has
 * just changed, and the cache would take it for current; it is asked for once more when it has come.
 */
export function renew(cache: QueryClient, queryKey: unknown[]): void {
  for (const q of cache.getQueryCache().findAll({ queryKey })) {
    if (q.state.data !== undefined || q.state.fetchStatus === 'idle') continue;
    const again = () => void cache.invalidateQueries({ queryKey: q.queryKey, exact: true });
    void q.promise?.then(again, again);
  }
  void cache.invalidateQueries({ queryKey });
}
