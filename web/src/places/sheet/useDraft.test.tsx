import { act } from 'react';
import { beforeEach, expect, it, vi } from 'vitest';
import { after, served, used, type Asked } from '../../testing';
import { blankSheet, type Sheet } from './model';
import { useDraft } from './useDraft';

const sheet = blankSheet('Late', { source: 'a/b', key: 'id', channel: 'square/#tours' });
const named = (name: string): Sheet => ({ ...sheet, name });
const nameIn = (a: Asked) => ((a.body as { sheet?: Sheet }).sheet ?? { name: '' }).name;

/** A server with a workflow, whose mark changes with each draft it keeps. */
function workflow(refuse?: (a: Asked) => string | undefined) {
  let n = 1;
  let kept: unknown = sheet;
  return served((a) => {
    if (a.method === 'PUT') {
      const detail = refuse?.(a);
      if (detail) return { status: 409, body: { detail } };
      n += 1;
      kept = (a.body as { sheet: unknown }).sheet;
    }
    return { body: { id: 7, sheet: kept, text: '', mark: `m${n}` } };
  });
}

const saves = (asked: Asked[]) => asked.filter((a) => a.method === 'PUT');

beforeEach(() => void vi.useFakeTimers());
it('saves what is typed in one go once, after a moment, on top of what it was made of', async () => {
  const asked = workflow();
  const draft = await used(() => useDraft(7));
  await after(10);
  expect(draft.get().draft?.sheet?.name).toBe('Late');
  for (const name of ['L', 'La', 'Lat']) {
    act(() => draft.get().edit({ sheet: named(name) }));
    await after(100);
  }
  expect(draft.get().saving).toBe('saving');
  expect(saves(asked)).toHaveLength(0);
  await after(1000);
  expect(saves(asked).map(nameIn)).toEqual(['Lat']);
  expect(saves(asked)[0]!.body).toMatchObject({ seen: 'm1' });
  expect(draft.get().saving).toBe('saved');
  act(() => draft.get().edit({ sheet: named('Later') }));
  await after(1000);
  expect(saves(asked)[1]!.body).toMatchObject({ seen: 'm2' });
  await draft.gone();
});

it('undoes what was typed in one go in one go', async () => {
  workflow();
  const draft = await used(() => useDraft(7));
  await after(10);
  act(() => draft.get().edit({ sheet: named('A') }));
  await after(50);
  act(() => draft.get().edit({ sheet: named('AB') }));
  await after(3000);
  act(() => draft.get().edit({ sheet: named('ABC') }));
  await after(1000);
  act(() => draft.get().undo());
  expect(draft.get().draft?.sheet?.name).toBe('AB');
  act(() => draft.get().undo());
  expect(draft.get().draft?.sheet?.name).toBe('Late');
  act(() => draft.get().undo());
  expect(draft.get().draft?.sheet?.name).toBe('Late');
  await draft.gone();
});

it('says so where a draft is refused, and keeps what was typed', async () => {
  const asked = workflow((a) => (nameIn(a) === 'Mine' ? 'Vera has changed this draft meanwhile' : undefined));
  const draft = await used(() => useDraft(7));
  await after(10);
  act(() => draft.get().edit({ sheet: named('Mine') }));
  await after(1000);
  expect(draft.get().saving).toEqual({ failed: 'Vera has changed this draft meanwhile' });
  expect(draft.get().draft?.sheet?.name).toBe('Mine');
  act(() => draft.get().edit({ sheet: named('Mine, too') }));
  await after(1000);
  expect(draft.get().saving).toBe('saved');
  expect(saves(asked)).toHaveLength(2);
  await draft.gone();
});

it('saves what is still there when one goes elsewhere, and when the page is left', async () => {
  const asked = workflow();
  const draft = await used(() => useDraft(7));
  await after(10);
  act(() => draft.get().edit({ sheet: named('Left') }));
  window.dispatchEvent(new Event('pagehide'));
  await after(10);
  expect(saves(asked).map(nameIn)).toEqual(['Left']);
  act(() => draft.get().edit({ sheet: named('Elsewhere') }));
  await draft.gone();
  await after(10);
  expect(saves(asked).map(nameIn)).toEqual(['Left', 'Elsewhere']);
});
