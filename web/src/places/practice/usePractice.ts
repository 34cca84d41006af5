import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect } from 'react';
import { ApiError } from '../../api/client';
import { renew } from '../../api/renew';
import type { Block, Fact } from '../../parts/MessageView';

/** The practice services speak HTTP of their own; Dorfbote passes the browser's calls on to them. */
async function call<T>(path: string, init?: RequestInit): Promise<T> {
  const res = await fetch('/api/practice' + path, {
    ...init,
    headers: init?.body ? { 'Content-Type': 'application/json' } : undefined,
  });
  if (!res.ok) {
    const p = (await res.json().catch(() => ({}))) as { detail?: string };
    throw new ApiError(res.status, p.detail ?? `The practice app said ${res.status}`);
  }
  return (res.status === 204 ? undefined : await res.json()) as T;
}

export interface AppKind {
  app: string;
  kind: string;
  title: string;
  key: string;
}

export type PracticeRecord = Record<string, unknown>;

export interface SquarePost {
  id: number;
  channel: string;
  sender: string;
  title: string;
  text: string;
  facts: Fact[] | null;
  tone: string;
  link?: { text: string; to: string };
  under?: number;
  at: string;
  body: Block[] | null;
  author?: string;
  reactions?: { name: string; n: number }[];
  called?: string;
  face?: number;
  picture?: { id: string; text: string };
  links?: { text: string; to: string }[];
  mentions?: string[];
  why?: string;
  buttons?: { text: string; comment?: 'none' | 'optional' | 'required'; said?: string; done?: boolean }[];
}

export interface Letter {
  id: number;
  sender: string;
  called: string;
  to: string[];
  subject: string;
  text: string;
  files: string[];
  under: string;
  at: string;
}

export interface TextMessage {
  id: number;
  sender: string;
  number: string;
  text: string;
  parts: number;
  state: 'sent' | 'delivered' | 'failed';
  words: string;
  at: string;
}

export interface Channel {
  name: string;
  purpose: string;
  private: boolean;
  members: string[] | null;
}

export const useKinds = () =>
  useQuery({ queryKey: ['practice', 'kinds'], queryFn: () => call<AppKind[]>('/apps') });

export const useRecords = (app: string, kind: string, q: string) =>
  useQuery({
    queryKey: ['practice', 'records', app, kind, q],
    enabled: kind !== '',
    queryFn: () =>
      call<{ items: PracticeRecord[]; more: boolean }>(
        `/apps/${app}/${kind}?limit=40&q=${encodeURIComponent(q)}`,
      ),
  });

export const useChannels = () =>
  useQuery({ queryKey: ['practice', 'channels'], queryFn: () => call<Channel[]>('/square/channels') });

export const usePostsIn = (channel: string) =>
  useQuery({
    queryKey: ['practice', 'posts', channel],
    enabled: channel !== '',
    queryFn: () =>
      call<SquarePost[]>(`/square/channels/${encodeURIComponent(channel.slice(1))}/posts?limit=40`),
  });

export function useChange(app: string, kind: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ key, fields }: { key: string; fields: PracticeRecord }) =>
      call<PracticeRecord>(`/apps/${app}/${kind}/${encodeURIComponent(key)}`, {
        method: 'PATCH',
        body: JSON.stringify(fields),
      }),
    onSettled: () => cache.invalidateQueries({ queryKey: ['practice', 'records', app, kind] }),
  });
}

/** Where an app asks before it does something; the address is empty where it asks nobody. */
export const useGate = (app: string) =>
  useQuery({
    queryKey: ['practice', 'gate', app],
    queryFn: () => call<{ address: string }>(`/apps/${app}/gate`),
  });

/** Has an app ask somewhere, or nobody. */
export function useSetGate(app: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (gate: { address: string; token: string } | undefined) =>
      call(`/apps/${app}/gate`, gate ? { method: 'PUT', body: JSON.stringify(gate) } : { method: 'DELETE' }),
    onSettled: () => cache.invalidateQueries({ queryKey: ['practice', 'gate', app] }),
  });
}

/** Puts another text in the place of what one has said, or takes it away. */
export function useSayAnew() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ post, text }: { post: number; text?: string }) =>
      call(
        `/square/posts/${post}/said`,
        text ? { method: 'PUT', body: JSON.stringify({ text }) } : { method: 'DELETE' },
      ),
    onSettled: () => cache.invalidateQueries({ queryKey: ['practice', 'posts'] }),
  });
}

export function useMember() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ channel, isIn }: { channel: string; isIn: boolean }) =>
      call(`/square/channels/${encodeURIComponent(channel.slice(1))}/members/Dorfbote`, {
        method: isIn ? 'PUT' : 'DELETE',
      }),
    onSettled: () => cache.invalidateQueries({ queryKey: ['practice', 'channels'] }),
  });
}

/** The post that a link leads to. */
export const usePost = (id: string | null) =>
  useQuery({
    queryKey: ['practice', 'post', id],
    enabled: id !== null,
    queryFn: () => call<SquarePost>(`/square/posts/${id}`),
  });

/** What came to the stand-in mailbox, the newest first. */
export const useLetters = () =>
  useQuery({ queryKey: ['practice', 'letters'], queryFn: () => call<Letter[]>('/letters?limit=40') });

/** What came to the stand-in phone, the newest first. */
export const useTexts = () =>
  useQuery({
    queryKey: ['practice', 'texts'],
    queryFn: () => call<TextMessage[]>('/phone/messages?limit=40'),
  });

/** Says something in a channel, or in the thread of a post, as the person who is signed in. */
export function useSay() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ channel, text, under }: { channel: string; text: string; under?: number }) =>
      call(`/square/channels/${encodeURIComponent(channel.slice(1))}/say`, {
        method: 'POST',
        body: JSON.stringify({ text, under }),
      }),
    onSettled: () => cache.invalidateQueries({ queryKey: ['practice', 'posts'] }),
  });
}

/** Reacts to a post. */
export function useReact() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ post, name }: { post: number; name: string }) =>
      call(`/square/posts/${post}/reactions`, { method: 'POST', body: JSON.stringify({ name }) }),
    onSettled: () => cache.invalidateQueries({ queryKey: ['practice', 'posts'] }),
  });
}

/** Refreshes records and channels as they change. */
export function usePracticeEvents() {
  const cache = useQueryClient();
  useEffect(() => {
    const source = new EventSource('/api/practice/events');
    source.onopen = () =>
      ['posts', 'records', 'channels', 'letters', 'texts'].forEach((k) => renew(cache, ['practice', k])); // what was missed till now
    source.onmessage = (m) => {
      const e = JSON.parse(m.data as string) as {
        topic: string;
        channel?: string;
        app?: string;
        kind?: string;
      };
      renew(cache, e.topic === 'records' ? ['practice', 'records', e.app, e.kind] : ['practice', e.topic]);
    };
    return () => source.close();
  }, [cache]);
}

/** Presses a button of a post, as whoever is signed in. */
export function usePress() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ post, button, comment }: { post: number; button: number; comment: string }) =>
      call<{ said: string; done: boolean }>(`/square/posts/${post}/press`, {
        method: 'POST',
        body: JSON.stringify({ button, comment }),
      }),
    onSettled: () => cache.invalidateQueries({ queryKey: ['practice', 'posts'] }),
  });
}
