import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useEffect, useMemo, useState } from 'react';
import { api, answerOf, type Proof } from '../../api/client';
import { sourceOf, type Sheet } from './model';
import type { Draft } from './useDraft';

/** How long typing must rest before the proof is asked for, in milliseconds. */
const REST = 15;

/** What the verdict is of where the sheet has an error: the sheet before it, or the rest of the sheet. */
export type Stale = '' | 'before' | 'without';

/** Whether what becomes of an arrival depends on a part of the sheet. */
const decides = (part: string) =>
  part === 'keep' || part === 'watch.when' || part.startsWith('gather[') || part.endsWith('.when');

/** A proof, and the sheet that it is of. */
type Proved = Proof & { of?: Sheet };

/** A proof with its frozen parts as they were in an earlier one of the same arrival. */
function thawed(now: Proved, good: Proof): Proved {
  if (!now.proof)
    return (now.problems ?? []).some((p) => !p.warning)
      ? { ...good, problems: now.problems, of: now.of }
      : now;
  const frozen = now.frozen ?? [];
  if (frozen.length === 0 || !good.proof || good.arrival?.seq !== now.arrival?.seq) return now;
  const was = good.proof;
  const proof = { ...now.proof };
  for (const part of frozen) {
    const row = /^route\.rows\[(\d+)\]\.when$/.exec(part)?.[1];
    const message = /^messages\.(.+)$/.exec(part)?.[1];
    if (part === 'keep') proof.keep = was.keep;
    else if (part === 'watch.when') proof.when = was.when;
    else if (part.startsWith('gather['))
      proof.gather = [...(proof.gather ?? []), ...(was.gather ?? []).filter((g) => g.path === part)];
    else if (part.startsWith('follow['))
      proof.follow = [...(proof.follow ?? []), ...(was.follow ?? []).filter((f) => f.path === part)];
    else if (row !== undefined)
      proof.rows = (proof.rows ?? []).map((r, i) =>
        i === Number(row) ? { ...r, line: was.rows?.[i]?.line ?? r.line } : r,
      );
    else if (message !== undefined && was.messages?.[message])
      proof.messages = { ...proof.messages, [message]: was.messages[message] };
  }
  if (!frozen.some(decides)) return { ...now, proof, table: now.table ?? good.table };
  const { verdict, row, decided_by, where, error, posts, otherwise } = was;
  Object.assign(proof, { verdict, row, decided_by, where, error, posts, otherwise });
  proof.rows = (proof.rows ?? []).map((r, i) => ({ ...r, taken: was.rows?.[i]?.taken ?? false }));
  return { ...now, proof, trail: good.trail, counts: good.counts, table: good.table };
}

/** The proof of the draft for the chosen arrival, kept up to date as one edits. */
export function useProof(
  draft: Draft | undefined,
  arrival: number,
  record = '',
  workflow = 0,
  suppose: Record<string, string> = {},
) {
  const [settled, setSettled] = useState(draft);
  useEffect(() => {
    const t = window.setTimeout(() => setSettled(draft), settled ? REST : 0);
    return () => window.clearTimeout(t);
  }, [draft, settled]);
  const sheet = settled?.sheet ?? settled?.text;
  const query = useQuery({
    queryKey: ['trail', sheet, arrival, record, suppose],
    enabled: settled !== undefined,
    queryFn: async ({ signal }) => {
      const on = record ? { record } : { arrival };
      const about = { ...on, workflow, suppose };
      const body = settled!.sheet ? { sheet: settled!.sheet, ...about } : { text: settled!.text, ...about };
      const answer: Proved = await answerOf(api.POST('/api/proof', { body, signal }));
      return { ...answer, of: settled!.sheet };
    },
    placeholderData: keepPreviousData,
    // The sheet is drawn anew for a new proof, not because one is on its way.
    notifyOnChangeProps: ['data', 'error'],
    gcTime: 10_000,
    staleTime: 5_000,
  });
  // Where a part of the sheet has an error, that part and what depends on it stand there as they last were, and are said to
  // be so. What was proved of another source, or of another arrival, says nothing of this one.
  const [last, setLast] = useState<{ proof: Proved; source: string; of: Proof; whole: boolean }>();
  const source = settled?.sheet ? sourceOf(settled.sheet.watch ?? {}) : '';
  const now = query.data;
  const good = last?.source === source ? last.proof : undefined;
  const made = last?.of === now ? last : undefined; // of the same answer the same is made
  const data = useMemo(() => made?.proof ?? (now && good ? thawed(now, good) : now), [made, now, good]);
  const frozen = (now?.frozen ?? []).some(decides);
  if (now && data?.proof && now !== last?.of && !query.isPlaceholderData) {
    const kept =
      good !== undefined && last?.whole === true && (!now.proof || good.arrival?.seq === now.arrival?.seq);
    setLast({ proof: data, source, of: now, whole: (now.proof !== null && !frozen) || kept });
  }
  const broken = now !== undefined && !now.proof && (now.problems ?? []).some((p) => !p.warning);
  const stale: Stale = !(good && (broken || frozen)) ? '' : last?.whole ? 'before' : 'without';
  return { data, stale, error: query.error, refetch: query.refetch };
}
