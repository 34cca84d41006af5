import type { Condition, Sheet as Written, Tell as Tells } from '../../api/sheet';

/**
 * A sheet as docs/schema/sheet.schema.json describes it. While it is being written, some of it may be missing; a route is
 * always there, if only an empty one.
 */
export type Sheet = Omit<Written, 'route'> & { route: NonNullable<Written['route']> };

/** A sheet as it comes, with an empty route where it has none. */
export const withRoute = (s: Written): Sheet => ({ ...s, route: s.route ?? {} });

/** A question to people. */
export type Ask = NonNullable<Sheet['ask']>[number];

/** What ends a step that tells others: one condition, which may be what people did, and within. */
export type Unless = Partial<Condition> & { within: string; claimed?: boolean; answered?: boolean };

/** A button of a message. */
export type ButtonPart = NonNullable<NonNullable<NonNullable<Sheet['messages']>[string]>['buttons']>[number];

/** A condition is read by its keys: a group, a test or a formula. */
export type Cond = Condition;

export type Watch = Sheet['watch'];
export type Schedule = NonNullable<Watch['schedule']>;
export type Opening = NonNullable<NonNullable<Watch['silent']>['open']>[number];

/** One thing that is gathered, in one of its ways. */
export type Gathered = NonNullable<Sheet['gather']>[number];

/** One thing that follows once the posts are delivered; in one of its ways. */
export type FollowStep = NonNullable<Sheet['follow']>[number];

/** How often, and at what hours, a workflow may tell anything. */
export type Pace = NonNullable<Sheet['pace']>;

/** Small tables that a sheet carries. */
export type Tables = NonNullable<Sheet['tables']>;

export type { Message } from '../../api/sheet';
export type MessageList = NonNullable<NonNullable<Sheet['messages']>[string]['list']>;
export type Tell = Tells[number];
export type RouteBand = Sheet['route'];
export type Row = NonNullable<RouteBand['rows']>[number];

/** The ways in which a workflow can be started; "" is a change of a record. */
export const watchForms = ['', 'due', 'lasts', 'silent', 'schedule', 'start', 'called'] as const;
export type WatchForm = (typeof watchForms)[number];

export const formOf = (w: Watch | undefined): WatchForm =>
  watchForms.find((f) => f !== '' && w !== undefined && f in w) ?? '';

/** The source whose records a sheet is about, "" where it is about none. */
export const sourceOf = (w: Watch | undefined): string => w?.source ?? w?.start?.source ?? '';

export type GroupKind = 'all' | 'any' | 'none';

export const groupKinds: GroupKind[] = ['all', 'any', 'none'];

/** The kind of group a condition is, or undefined for a test or a formula. */
export const groupOf = (c: Cond): GroupKind | undefined => groupKinds.find((k) => Array.isArray(c[k]));

export const partsOf = (c: Cond): Cond[] => {
  const kind = groupOf(c);
  return kind ? (c[kind] as Cond[]) : [];
};

export const isFormula = (c: Cond) => typeof c.formula === 'string';

/** A test's operator: the name beside "field". */
export const opOf = (c: Cond): string => Object.keys(c).find((k) => k !== 'field') ?? 'is';

export const emptyTest = (field: string): Cond => ({ field, is: '' });

/** What a fresh message says until it is changed. */
export const freshBody = 'Something has changed.';

export const blankSheet = (name: string, first: { source: string; key: string; channel: string }): Sheet => ({
  dorfbote: 1,
  name,
  watch: first.source ? { source: first.source } : { start: {} },
  messages: {
    alert: {
      title: first.source ? `\${record.${first.key}}` : name,
      body: freshBody,
      tone: 'plain',
    },
  },
  route: { otherwise: { tell: [{ to: first.channel, message: 'alert' }] } },
});

/** The sheet with a value put at a path such as keep.all[0] or route.rows[1].when; undefined takes away. */
export function putAt<T>(sheet: T, path: string, value: unknown): T {
  const steps = [...path.matchAll(/[^.[\]]+/g)].map((m) => m[0]);
  const put = (at: unknown, i: number): unknown => {
    if (i === steps.length) return value;
    const step = steps[i]!;
    if (Array.isArray(at)) return at.map((e: unknown, n) => (n === Number(step) ? put(e, i + 1) : e));
    const object = (at ?? {}) as Record<string, unknown>;
    return { ...object, [step]: put(object[step], i + 1) };
  };
  return put(sheet, 0) as T;
}

/** What stands at a path of the sheet. */
const at = (sheet: unknown, path: string): unknown =>
  [...path.matchAll(/[^.[\]]+/g)].reduce<unknown>(
    (v, [step]) => (v as Record<string, unknown> | undefined | null)?.[step],
    sheet,
  );

/** A text with the piece exchanged in which two others differ; undefined where it no longer has it. */
function exchangedIn(text: string, was: string, put: string): string | undefined {
  const most = Math.min(was.length, put.length);
  let from = 0;
  while (from < most && was[from] === put[from]) from++;
  let behind = 0;
  while (behind < most - from && was[was.length - 1 - behind] === put[put.length - 1 - behind]) behind++;
  const piece = was.slice(from, was.length - behind);
  const found = text.startsWith(piece, from) ? from : text.indexOf(piece);
  return piece && found >= 0
    ? text.slice(0, found) + put.slice(from, put.length - behind) + text.slice(found + piece.length)
    : undefined;
}

/** The sheet with a problem mended that was found on an earlier one: what was written meanwhile stays. undefined where it cannot be. */
export function mendedAt<T>(sheet: T, found: unknown, path: string, put: unknown): T | undefined {
  const was = at(found, path);
  const is = at(sheet, path);
  if (found === undefined || JSON.stringify(was) === JSON.stringify(is)) return putAt(sheet, path, put);
  if (typeof was !== 'string' || typeof is !== 'string' || typeof put !== 'string') return undefined;
  const text = exchangedIn(is, was, put);
  return text === undefined ? undefined : putAt(sheet, path, text);
}

/** The list with another element at an index. */
export const exchanged = <T>(list: readonly T[], i: number, next: T): T[] =>
  list.map((o, n) => (n === i ? next : o));

/** The list without the element at an index. */
export const dropped = <T>(list: readonly T[], i: number): T[] => list.filter((_, n) => n !== i);

/** The object with some of its fields put; those that are undefined or empty are left out. */
export const filled = <T extends object>(had: T, next: Partial<T>): T =>
  Object.fromEntries(Object.entries({ ...had, ...next }).filter(([, v]) => v !== undefined && v !== '')) as T;

/** Adds a test to a condition, putting a lone one into a group of "all". */
export function withTest(c: Cond | undefined, test: Cond): Cond {
  if (!c || Object.keys(c).length === 0) return { all: [test] };
  const kind = groupOf(c);
  return kind ? { ...c, [kind]: [...partsOf(c), test] } : { all: [c, test] };
}

/** Replaces or, with undefined, removes the part at an index. An emptied group is undefined. */
export function withPart(c: Cond, i: number, part: Cond | undefined): Cond | undefined {
  const kind = groupOf(c);
  if (!kind) return part;
  const parts = [...partsOf(c)];
  if (part) parts[i] = part;
  else parts.splice(i, 1);
  return parts.length ? { [kind]: parts } : undefined;
}

/** What a person typed, as a sheet's value: a number where the field counts, else the text. */
export function typedValue(text: string, type: string): unknown {
  const t = text.trim();
  if (['number', 'money', ''].includes(type) && /^-?(0|[1-9]\d*)(\.\d+)?$/.test(t)) {
    const n = Number(t);
    if (String(n) === t || !Number.isFinite(n) || t.length <= 15) return n;
  }
  if (type === 'yes/no' && (t === 'true' || t === 'yes')) return true;
  if (type === 'yes/no' && (t === 'false' || t === 'no')) return false;
  return text;
}

/** The value a test starts with when its operator is changed. */
export function startValue(takes: string, had: unknown): unknown {
  switch (takes) {
    case 'list':
    case 'days':
      return Array.isArray(had)
        ? had
        : had === '' || had === undefined || typeof had === 'boolean'
          ? []
          : [had];
    case 'pair':
      return Array.isArray(had) && had.length === 2
        ? had
        : [typeof had === 'number' ? had : 0, typeof had === 'number' ? had : 0];
    case 'bool':
      return true;
  }
  return Array.isArray(had) ? (had[0] ?? '') : typeof had === 'boolean' ? '' : (had ?? '');
}

/** The sheet with everything that is told somewhere changed. */
function withTells(sheet: Sheet, tell: (t: Tell) => Tell): Sheet {
  const all = (list: Tell[] | undefined) => (list ?? []).map(tell);
  const { rows, otherwise } = sheet.route;
  return {
    ...sheet,
    gather: sheet.gather?.map((g) =>
      typeof g.if_fails === 'object' ? { ...g, if_fails: { tell: all(g.if_fails.tell) } } : g,
    ),
    follow: sheet.follow?.map((f) => ({
      ...f,
      ...(f.tell && { tell: all(f.tell) }),
      ...(typeof f.if_fails === 'object' && { if_fails: { tell: all(f.if_fails.tell) } }),
    })),
    route: {
      ...sheet.route,
      ...(rows && { rows: rows.map((r) => ({ ...r, tell: all(r.tell) })) }),
      ...(otherwise && { otherwise: { tell: all(otherwise.tell) } }),
    },
  };
}

/** The sheet with a message called otherwise, wherever it is named. */
export function renamed(sheet: Sheet, from: string, to: string): Sheet {
  const name = (n: string) => (n === from ? to : n);
  const messages = Object.entries(sheet.messages ?? {}).map(([n, m]) => [name(n), m] as const);
  const ask = sheet.ask?.map((a) => ({ ...a, message: name(a.message) }));
  const next = { ...sheet, ...(ask && { ask }), messages: Object.fromEntries(messages) };
  return withTells(next, ({ reply, ...t }) => ({
    ...t,
    message: name(t.message),
    ...(reply !== undefined && { reply: name(reply) }),
  }));
}

/** The sheet without a message: what told it tells the next one, and no reply is made of it. */
export function withoutMessage(sheet: Sheet, name: string): Sheet {
  const messages = Object.fromEntries(Object.entries(sheet.messages ?? {}).filter(([n]) => n !== name));
  const next = Object.keys(messages)[0] ?? '';
  const ask = sheet.ask?.map((a) => (a.message === name ? { ...a, message: next } : a));
  return withTells({ ...sheet, ...(ask && { ask }), messages }, ({ reply, ...t }) => ({
    ...t,
    message: t.message === name ? next : t.message,
    ...(reply !== undefined && reply !== name && { reply }),
  }));
}

/** The marks of routes, in their order; the same stand in the trail and beside the rows. */
export const routeMark = (i: number) => String.fromCharCode(65 + (i % 26));

/** Which ink a route has. */
export const routeInk = (i: number) => `route-${i % 4}`;

/** A short plain reading of a list of destinations. */
export const channelOf = (to: string) => to.slice(to.indexOf('/') + 1);

/** Where a message goes, as the sheet says it: in its routes, and where something fails. */
export function tosOf(sheet: Sheet, message: string): string[] {
  const found: string[] = [];
  withTells(sheet, (t) => {
    if (t.message === message || t.reply === message) found.push(t.to);
    return t;
  });
  for (const a of sheet.ask ?? [])
    if (a.message === message) found.push(...(typeof a.of === 'string' ? [a.of] : a.of));
  return [...new Set(found)];
}
