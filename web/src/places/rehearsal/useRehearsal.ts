import { useCallback, useEffect, useRef, useState } from 'react';
import type { Schemas } from '../../api/client';

export type Sums = Schemas['RehearsalSums'];

/** The stretch of time that is rehearsed. */
export interface Stretch {
  from?: string;
  to?: string;
}

interface About extends Stretch {
  sheet: unknown;
  text: string;
  workflow: number;
}

export type Rehearsal =
  | { state: 'none' }
  | { state: 'running'; sums: Sums | undefined }
  | { state: 'stopped' | 'done'; sums: Sums | undefined }
  | { state: 'failed'; sums: Sums | undefined; error: string };

const bodyOf = ({ sheet, text, ...rest }: About, as: string) =>
  JSON.stringify({ ...(sheet ? { sheet } : { text }), ...rest, as });

const post = (body: string, signal?: AbortSignal) =>
  fetch('/api/rehearsals', { method: 'POST', headers: { 'Content-Type': 'application/json' }, body, signal });

async function wrong(answer: Response): Promise<string> {
  const p = (await answer.json().catch(() => ({}))) as { detail?: string; errors?: { message?: string }[] };
  return [
    p.detail ?? `The server answered ${answer.status}.`,
    ...(p.errors ?? []).map((e) => e.message),
  ].join(' ');
}

/** Runs a sheet over what came in, showing what is found on the way; it can be stopped. */
export function useRehearsal() {
  const [run, setRun] = useState<Rehearsal>({ state: 'none' });
  const control = useRef<AbortController>(undefined);
  const stop = useCallback(() => control.current?.abort(), []);
  useEffect(() => stop, [stop]);
  const start = useCallback(async (about: About) => {
    control.current?.abort();
    const mine = new AbortController();
    control.current = mine;
    let sums: Sums | undefined;
    setRun({ state: 'running', sums });
    try {
      const answer = await post(bodyOf(about, 'sums'), mine.signal);
      if (!answer.ok) {
        setRun({ state: 'failed', sums, error: await wrong(answer) });
        return;
      }
      const reader = answer.body!.pipeThrough(new TextDecoderStream()).getReader();
      let rest = '';
      for (;;) {
        const { done, value = '\n' } = await reader.read();
        const lines = (rest + value).split('\n');
        rest = lines.pop() ?? '';
        const last = lines.filter(Boolean).at(-1);
        if (last) {
          sums = JSON.parse(last) as Sums;
          setRun({ state: 'running', sums });
        }
        if (done) break;
      }
      if (sums?.error) setRun({ state: 'failed', sums: undefined, error: sums.error });
      else if (sums?.done) setRun({ state: 'done', sums });
      else setRun({ state: 'failed', sums, error: 'The server ended before the rehearsal did.' });
    } catch (e) {
      if (control.current !== mine) return;
      if (mine.signal.aborted) setRun({ state: 'stopped', sums });
      else
        setRun({
          state: 'failed',
          sums,
          error: e instanceof Error ? e.message : 'The server does not answer.',
        });
    }
  }, []);
  return { run, start, stop };
}

/** Saves every outcome of a rehearsal as a file. */
export async function saveOutcomes(about: About, as: 'jsonl' | 'csv') {
  const answer = await post(bodyOf(about, as));
  if (!answer.ok) throw new Error(await wrong(answer));
  const url = URL.createObjectURL(await answer.blob());
  const a = document.createElement('a');
  a.href = url;
  a.download = `rehearsal.${as}`;
  a.click();
  URL.revokeObjectURL(url);
}
