import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useEffect, useMemo, useState } from 'react';
import { api, said, type Proof } from '../../api/client';
import { sourceOf } from './model';
import type { Draft } from './useDraft';

/** How long typing must rest before the proof is asked for, in milliseconds. */
const REST = 15;

/** The proof of the draft for the chosen arrival, kept up to date as one edits. */
export function useProof(draft: Draft | undefined, arrival: number, record = '', workflow = 0) {
  const [settled, setSettled] = useState(draft);
  useEffect(() => {
    const t = window.setTimeout(() => setSettled(draft), settled ? REST : 0);
    return () => window.clearTimeout(t);
  }, [draft, settled]);
  const sheet = settled?.sheet ?? settled?.text;
  const query = useQuery({
    queryKey: ['trail', sheet, arrival, record],
    enabled: settled !== undefined,
    queryFn: ({ signal }) => {
      const on = record ? { record } : { arrival };
      const about = { ...on, workflow };
      const body = settled!.sheet ? { sheet: settled!.sheet, ...about } : { text: settled!.text, ...about };
      return said(api.POST('/api/proof', { body, signal }));
    },
    placeholderData: keepPreviousData,
    // The sheet is drawn anew for a new proof, not because one is on its way.
    notifyOnChangeProps: ['data', 'error'],
    gcTime: 10_000,
    staleTime: 5_000,
  });
  // While a sheet has an error, what it last was when it could be run stands there, and is said to be so.
  // What was proved of another source says nothing of this one.
  const [last, setLast] = useState<{ proof: Proof; source: string }>();
  const source = settled?.sheet ? sourceOf(settled.sheet.watch ?? {}) : '';
  const now = query.data;
  if (now?.proof && now !== last?.proof && !query.isPlaceholderData) setLast({ proof: now, source });
  const good = last?.source === source ? last.proof : undefined;
  const broken = now !== undefined && !now.proof && (now.problems ?? []).some((p) => !p.warning);
  const stale = broken && good !== undefined;
  const data = useMemo(
    () => (stale && now && good ? { ...good, problems: now.problems } : now),
    [stale, now, good],
  );
  return { data, stale, error: query.error, refetch: query.refetch };
}
