import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { App } from 'antd';
import { act, type ReactNode } from 'react';
import { createRoot } from 'react-dom/client';
import { MemoryRouter } from 'react-router';
import { expect, vi } from 'vitest';

// For tests alone: what is drawn, hooks at work, and a server that answers as it is told.

(globalThis as { IS_REACT_ACT_ENVIRONMENT?: boolean }).IS_REACT_ACT_ENVIRONMENT = true;

/** Draws something in a page of its own, at an address. */
export async function drawn(what: ReactNode, path = '/') {
  const at = document.body.appendChild(document.createElement('div'));
  const root = createRoot(at);
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  const draw = (next: ReactNode) =>
    act(async () => {
      await Promise.resolve();
      root.render(
        <QueryClientProvider client={queries}>
          <App>
            <MemoryRouter initialEntries={[path]}>{next}</MemoryRouter>
          </App>
        </QueryClientProvider>,
      );
    });
  await draw(what);
  return {
    at,
    draw,
    gone: () =>
      act(async () => {
        await Promise.resolve();
        root.unmount();
        at.remove();
      }),
  };
}

/** Has a hook at work, and gives what it gives now. */
export async function used<R>(hook: () => R) {
  const now: { value?: R } = {};
  function Uses() {
    now.value = hook();
    return null;
  }
  const page = await drawn(<Uses />);
  return { get: () => now.value as R, gone: page.gone };
}

/** Lets time go by, and what was begun end. */
export const after = (ms: number) =>
  act(async () => {
    await vi.advanceTimersByTimeAsync(ms);
  });

export interface Asked {
  method: string;
  path: string;
  query: URLSearchParams;
  body: unknown;
}

/** A server that answers each call by a function, and keeps what it was asked. */
export function served(answer: (asked: Asked) => { status?: number; body?: unknown } | Promise<never>) {
  const asked: Asked[] = [];
  vi.stubGlobal('fetch', async (input: Request | string, init?: RequestInit) => {
    const r = input instanceof Request ? input : new Request(new URL(input, 'http://here.example'), init);
    const text = await r.text();
    const one = {
      method: r.method,
      path: new URL(r.url).pathname,
      query: new URL(r.url).searchParams,
      body: text ? (JSON.parse(text) as unknown) : undefined,
    };
    asked.push(one);
    const { status = 200, body = {} } = await answer(one);
    return new Response(JSON.stringify(body), { status, headers: { 'Content-Type': 'application/json' } });
  });
  return asked;
}

/** A server that answers by method and path or by path, by more where that says something, and else with an empty list. */
export const answering = (
  answers: Record<string, unknown>,
  more?: (a: Asked) => { status?: number; body?: unknown } | undefined,
) =>
  served((a) => more?.(a) ?? { body: answers[`${a.method} ${a.path}`] ?? answers[a.path] ?? { items: [] } });

/** What of it was asked that writes. */
export const writes = (asked: Asked[]) => asked.filter((a) => a.method !== 'GET');

/** Waits until something is so. */
export const wait = (until: () => unknown) => vi.waitFor(() => expect(until()).toBeTruthy());

/** Types into a field as a person does. */
export const typed = (field: Element | null, text: string) =>
  act(async () => {
    await Promise.resolve();
    // Past React's own setter, which would take the change for its own.
    const kind = field instanceof HTMLTextAreaElement ? HTMLTextAreaElement : HTMLInputElement;
    Object.getOwnPropertyDescriptor(kind.prototype, 'value')?.set?.call(field, text);
    field!.dispatchEvent(new Event('input', { bubbles: true }));
  });

/** Presses something. */
export const pressed = (what: Element | null) =>
  act(async () => {
    (what as HTMLElement).click();
    await Promise.resolve();
  });

/** What bears a label, anywhere on the page. */
export const labelled = (label: string) => document.querySelector<HTMLElement>(`[aria-label="${label}"]`);

/** The last button, or entry of a menu, that says something. */
export const saying = (words: string) =>
  [...document.querySelectorAll<HTMLElement>('button, [role="menuitem"], a')]
    .filter((b) => b.textContent.trim() === words)
    .at(-1) ?? null;

/** Chooses an option of a select, as a person does with the pointer. */
export async function chosen(label: string, option: string) {
  await act(async () => {
    labelled(label)!
      .closest('.ant-select')!
      .dispatchEvent(new MouseEvent('mousedown', { bubbles: true }));
    await Promise.resolve();
  });
  const all = [...document.querySelectorAll<HTMLElement>('.ant-select-item-option')];
  // An option may have more beside its words, such as what it stands for at the moment.
  const found =
    all.filter((o) => o.textContent.trim() === option).at(-1) ??
    all.filter((o) => o.textContent.startsWith(option)).at(-1);
  if (!found) throw new Error(`${label} does not offer ${option}, but: ${offered().join(', ')}`);
  await pressed(found);
}

/** The options that an open select offers. */
export const offered = () =>
  [...document.querySelectorAll('.ant-select-item-option')].map((o) => o.textContent.trim());

/** What jsdom lacks of a browser. */
export function browserParts() {
  vi.stubGlobal(
    'ResizeObserver',
    class {
      observe = () => undefined;
      unobserve = () => undefined;
      disconnect = () => undefined;
    },
  );
  vi.stubGlobal('matchMedia', () => ({
    matches: false,
    addListener: () => undefined,
    removeListener: () => undefined,
    addEventListener: () => undefined,
    removeEventListener: () => undefined,
  }));
}
