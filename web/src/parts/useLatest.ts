import { useCallback, useLayoutEffect, useRef } from 'react';

/** A function that stays the same while what it does is always the latest: for parts that are drawn anew only when what they show changes. */
export function useLatest<A extends unknown[], R>(fn: (...args: A) => R): (...args: A) => R {
  const latest = useRef(fn);
  useLayoutEffect(() => {
    latest.current = fn;
  });
  return useCallback((...args: A) => latest.current(...args), []);
}
