import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useCallback, useEffect, useRef, useState } from 'react';
import { ApiError, api, answerOf, type WorkflowDetail } from '../../api/client';
import { withRoute, type Sheet } from './model';

export type Saving = 'saved' | 'saving' | { failed: string };

/** What the person is editing: the sheet as an object, or its text while that is shown. */
export type Draft = { sheet: Sheet; text?: undefined } | { text: string; sheet?: undefined };

const SAVE_AFTER = 400;
/** Edits less than this apart, in milliseconds, are one step to undo. */
const TOGETHER = 1000;
const MOST_STEPS = 200;

/** Keeps a workflow's draft: every edit is saved by itself, in order, and nothing else is. */
export function useDraft(id: number) {
  const cache = useQueryClient();
  const loaded = useQuery({
    queryKey: ['workflow', id],
    queryFn: () => answerOf(api.GET('/api/workflows/{id}', { params: { path: { id } } })),
    staleTime: 0,
    refetchOnMount: 'always',
  });
  const [draft, setDraft] = useState<Draft>();
  const [saving, setSaving] = useState<Saving>('saved');
  const pending = useRef<Draft>(undefined);
  const timer = useRef<number>(undefined);
  const running = useRef<Promise<void>>(Promise.resolve());

  if (loaded.data && !draft && !loaded.isFetching) setDraft(draftOf(loaded.data));
  /** The mark of the draft as it was last known here: somebody else's change is not written over. */
  const seen = useRef<string>(undefined);
  useEffect(() => {
    seen.current ??= loaded.data?.mark;
  }, [loaded.data]);

  const flush = useCallback(async () => {
    window.clearTimeout(timer.current);
    const next = pending.current;
    pending.current = undefined;
    if (next) {
      running.current = running.current.then(async () => {
        try {
          const body = { ...(next.sheet ? { sheet: next.sheet } : { text: next.text }), seen: seen.current };
          const w = await answerOf(api.PUT('/api/workflows/{id}/draft', { params: { path: { id } }, body }));
          seen.current = w.mark;
          cache.setQueryData(['workflow', id], w);
          if (!pending.current) setSaving('saved');
        } catch (e) {
          setSaving({ failed: e instanceof ApiError ? e.message : 'The draft could not be saved.' });
        }
      });
    }
    await running.current;
  }, [cache, id]);

  const past = useRef<{ draft: Draft; at: number }[]>([]);
  const keep = useCallback(
    (next: Draft) => {
      setDraft(next);
      setSaving('saving');
      pending.current = next;
      window.clearTimeout(timer.current);
      timer.current = window.setTimeout(() => void flush(), SAVE_AFTER);
    },
    [flush],
  );
  const edit = useCallback(
    (next: Draft) => {
      const last = past.current.at(-1);
      // What is typed in one go is undone in one go.
      if (draft && (!last || Date.now() - last.at > TOGETHER))
        past.current = [...past.current.slice(-MOST_STEPS), { draft, at: Date.now() }];
      else if (last) last.at = Date.now();
      keep(next);
    },
    [draft, keep],
  );
  const undo = useCallback(() => {
    const last = past.current.pop();
    if (last) keep(last.draft);
  }, [keep]);

  useEffect(() => () => void flush(), [flush]);
  // A page that is left for good saves what it still has, by a call that outlives it.
  useEffect(() => {
    const leave = () => {
      const next = pending.current;
      if (!next) return;
      pending.current = undefined;
      window.clearTimeout(timer.current);
      void fetch(`/api/workflows/${id}/draft`, {
        method: 'PUT',
        keepalive: true,
        headers: { 'Content-Type': 'application/json' },
        body: JSON.stringify({
          ...(next.sheet ? { sheet: next.sheet } : { text: next.text }),
          seen: seen.current,
        }),
      });
    };
    window.addEventListener('pagehide', leave);
    return () => window.removeEventListener('pagehide', leave);
  }, [id]);

  /** Takes a draft that the server has as the one being edited; what was edited before can be had back. */
  const back = (w: WorkflowDetail) => {
    if (draft) past.current = [...past.current, { draft, at: 0 }];
    pending.current = undefined;
    seen.current = w.mark;
    setDraft(draftOf(w));
  };

  const set = (w: WorkflowDetail) => {
    seen.current = w.mark;
    cache.setQueryData(['workflow', id], w);
    void cache.invalidateQueries({ queryKey: ['workflows'] });
  };
  return {
    loaded,
    draft,
    edit,
    undo,
    back,
    saving,
    flush,
    set,
    reset: (w: WorkflowDetail) => {
      seen.current = w.mark;
      setDraft(draftOf(w));
    },
  };
}

const draftOf = (w: WorkflowDetail): Draft =>
  w.sheet && typeof w.sheet === 'object' ? { sheet: withRoute(w.sheet as Sheet) } : { text: w.text };
