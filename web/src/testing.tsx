import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { App } from 'antd';
import { act, type ReactNode } from 'react';
import { createRoot } from 'react-dom/client';
import { vi } from 'vitest';

// For tests alone: what is drawn, hooks at work, and a server that answers as it is told.

(globalThis as { IS_REACT_ACT_ENVIRONMENT?: boolean }).IS_REACT_ACT_ENVIRONMENT = true;

/** Draws something in a page of its own. */
export async function drawn(what: ReactNode) {
  const at = document.body.appendChild(document.createElement('div'));
  const root = createRoot(at);
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  const draw = (next: ReactNode) =>
    act(async () => {
      await Promise.resolve();
      root.render(
        <QueryClientProvider client={queries}>
          <App>{next}</App>
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
      body: text ? (JSON.parse(text) as unknown) : undefined,
    };
    asked.push(one);
    const { status = 200, body = {} } = await answer(one);
    return new Response(JSON.stringify(body), { status, headers: { 'Content-Type': 'application/json' } });
  });
  return asked;
}

/** Types into a field as a person does. */
export const typed = (field: Element | null, text: string) =>
  act(async () => {
    await Promise.resolve();
    // Past React's own setter, which would take the change for its own.
    Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value')?.set?.call(field, text);
    field!.dispatchEvent(new Event('input', { bubbles: true }));
  });

/** Presses something. */
export const pressed = (what: Element | null) =>
  act(async () => {
    (what as HTMLElement).click();
    await Promise.resolve();
  });
