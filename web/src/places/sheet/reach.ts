import { useQuery } from '@tanstack/react-query';
import { api, answerOf, type ConnectionItem, type Schemas } from '../../api/client';
import { useConnections, useDestinations } from '../../api/queries';

/** A place that can be chosen for what is told. */
export interface Reach {
  value: string;
  label: string;
  /** Of a connection over which an address is written: what such an address looks like. */
  form?: string;
}

export const useBook = () =>
  useQuery({
    queryKey: ['people-book', 'first'],
    queryFn: () => answerOf(api.GET('/api/people-book', { params: { query: { limit: 200 } } })),
    staleTime: 30_000,
  });

/** The connections that posts can go over. */
export const sending = (connections: ConnectionItem[] | null | undefined) =>
  (connections ?? []).filter((c) => c.sends && !c.sends.mute);

const hints: Record<string, string> = {
  mail: 'an address…',
  number: 'a number…',
  room: 'a room or person…',
  listed: 'one that the record names…',
};

/** Some of what can be chosen, under a heading. */
export interface ReachGroup {
  title: string;
  options: Reach[];
}

/** The places that are listed, under their connections. A title that two connections have bears its connection's. */
export function usePlaces(): ReachGroup[] {
  const connections = useConnections();
  const destinations = useDestinations();
  const list = destinations.data?.items ?? [];
  const groups = new Map<string, ReachGroup>();
  for (const d of list) {
    const over = overOf(d.name);
    const title =
      (connections.data?.items ?? []).find((c) => `${c.id}/` === over)?.title ?? over.slice(0, -1);
    const twice = list.some((o) => o.title === d.title && overOf(o.name) !== over);
    const state = `${d.private ? ' (private)' : ''}${d.paused ? ' (paused)' : d.shut ? ' (would refuse)' : ''}`;
    if (!groups.has(over)) groups.set(over, { title, options: [] });
    groups
      .get(over)!
      .options.push({ value: d.name, label: `${d.title}${twice ? ` · ${title}` : ''}${state}` });
  }
  return [...groups.values()];
}

/** Everything that a tell can go to: places that are listed, addresses over a connection, and people. */
export function useReach(): ReachGroup[] {
  const connections = useConnections();
  const places = usePlaces();
  const book = useBook();
  const open = sending(connections.data?.items);
  const addresses = open.map((c) => ({
    value: `${c.id}/`,
    form: c.sends!.form,
    label: `${c.title}: ${hints[c.sends!.form] ?? 'a place…'}`,
  }));
  const persons = (book.data?.items ?? []).map((p) => ({
    value: `person/${p.id}`,
    label: p.prefers ? `${p.name || p.id} (${p.prefers})` : p.name || p.id,
  }));
  return [
    ...places,
    { title: 'Addresses', options: addresses },
    {
      title: 'People',
      options: [...persons, { value: 'person/', label: 'Somebody whom the record names…' }],
    },
  ].filter((g) => g.options.length > 0);
}

/** Whether a destination's place is written beside its connection: it holds a formula, or none of the lists has it. */
export const isWritten = (to: string, groups: { options: Reach[] }[]) =>
  to.includes('${') ||
  (to.includes('/') && !groups.some((g) => g.options.some((o) => o.value === to && !o.value.endsWith('/'))));

/** The connection of a destination, with its slash. */
export const overOf = (to: string) => to.slice(0, to.indexOf('/') + 1);

/** Which kinds of destination a sheet tells: the dialects that its messages are seen in. */
export function dialectsOf(tos: string[], connections: ConnectionItem[] | null | undefined): string[] {
  const found = new Set<string>();
  for (const to of tos) {
    const c = (connections ?? []).find((x) => to.startsWith(`${x.id}/`));
    if (c?.sends) found.add(c.sends.dialect);
  }
  return [...found];
}

export type TellProof = Schemas['TellProof'];
