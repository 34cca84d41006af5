import type { FieldItem, Question } from '../../api/client';

/** Something that a formula, a text or a condition may call by its name. */
export interface Name {
  /** As formulas call it, such as record.user.login. */
  path: string;
  /** As a condition's field calls it; undefined for what a condition cannot look at. */
  field?: string;
  label: string;
  type: string;
  group: string;
  /** Of a field of the record itself: what is known of it. */
  item?: FieldItem;
}

/** Something gathered, with the fields of its records as far as they are known. */
export interface GatheredName {
  name: string;
  many: boolean;
  fields: Described[];
  /** What it is shows only when it is worked out: it may be a list. */
  open?: boolean;
  /** A table that the sheet carries; its rows are found by a value. */
  table?: boolean;
}

interface Described {
  name: string;
  label: string;
  type: string;
  fields?: Described[] | null;
}

const plainName = /^[A-Za-z_][A-Za-z0-9_]*$/;

/** A name within another, as formulas call it. */
const within = (of: string, name: string) =>
  plainName.test(name) ? `${of}.${name}` : `${of}["${name.replace(/["\\]/g, '\\$&')}"]`;

const MOST_DEPTH = 3;

/** The group of how long it is since a choice was made: words for a text, and nothing to compare with. */
export const HOW_LONG = 'How long';

/** The fields of an object, and those of the objects inside it. */
function namesIn(
  fields: Described[],
  at: { path: string; field: string; label: string; group: string },
  depth = 0,
): Name[] {
  return fields.flatMap((f) => {
    const path = within(at.path, f.name);
    const field = at.field ? `${at.field}.${f.name}` : f.name;
    const label = at.label ? `${at.label} › ${f.label}` : f.label;
    const own: Name = { path, field, label, type: f.type, group: at.group };
    if (depth === 0 && at.path === 'record') own.item = f as FieldItem;
    const inner =
      depth < MOST_DEPTH && f.fields && f.type === 'object'
        ? namesIn(f.fields, { path, field, label, group: at.group }, depth + 1)
        : [];
    return [own, ...inner];
  });
}

/** What a condition over records may look at: their fields and, where it judges an arrival, what was gathered. */
export const testNames = (fields: FieldItem[], gathered: GatheredName[] = []): Name[] => [
  ...namesIn(fields, { path: 'record', field: '', label: '', group: 'Record' }),
  ...gathered.flatMap((g) => [
    { path: g.name, field: g.name, label: g.name, type: g.many ? 'list' : '', group: 'Gathered' },
    ...namesIn(g.fields, { path: g.name, field: g.name, label: g.name, group: 'Gathered' }),
  ]),
];

/** The field of the record by which a table of the sheet is most likely looked into: one that is called as the table is, or as its key. */
const keyFor = (table: GatheredName, fields: FieldItem[]) =>
  fields.find((f) => f.name === table.name || `${f.name}s` === table.name)?.name ??
  fields.find((f) => f.name === table.fields[0]?.name)?.name ??
  fields[0]?.name ??
  'id';

/** Everything that a formula may call. */
export function formulaNames(fields: FieldItem[], answers: Question[], gathered: GatheredName[]): Name[] {
  return [
    ...testNames(fields),
    ...gathered.flatMap((g) => [
      { path: g.name, field: g.name, label: g.name, type: g.many ? 'list' : '', group: 'Gathered' },
      ...(g.many ? [] : namesIn(g.fields, { path: g.name, field: g.name, label: g.name, group: 'Gathered' })),
      ...(g.table
        ? g.fields.map((f) => ({
            path: within(`${g.name}[record.${keyFor(g, fields)}]`, f.name),
            label: `${g.name} › ${f.label}`,
            type: f.type,
            group: 'Gathered',
          }))
        : []),
    ]),
    ...answers.map((q) => ({
      path: within('answers', q.name),
      label: q.label || q.name,
      type: q.type,
      group: 'Answers',
    })),
    ...namesIn(fields, { path: 'before', field: '', label: '', group: 'Before' }).map(
      ({ path, label, type, group }) => ({ path, label, type, group }),
    ),
    ...fields
      .filter((f) => f.type === 'choice')
      .flatMap((f) =>
        (f.options ?? f.examples ?? []).slice(0, 8).map((value) => ({
          path: `words(now - when_became("${f.name}", ${JSON.stringify(value)}))`,
          label: `How long since ${f.label} became ${value}`,
          type: 'text',
          group: HOW_LONG,
        })),
      ),
    { path: 'arrival.at', label: 'When it came in', type: 'moment', group: 'Arrival' },
    { path: 'arrival.by', label: 'Who did it', type: 'text', group: 'Arrival' },
    { path: 'arrival.kind', label: 'What happened', type: 'text', group: 'Arrival' },
    { path: 'now', label: 'Now', type: 'moment', group: 'Arrival' },
  ];
}

/** The fields of each record of a list, which its lines call "it". */
export const itNames = (fields: Described[], group: string): Name[] =>
  namesIn(fields, { path: 'it', field: '', label: '', group });

/** What each item is called and has, of the list that a tell goes through: an item of the list itself or, where the list is grouped, a group. */
export function eachNames(each: string, gathered: GatheredName[]): { names: Name[]; group?: GatheredName } {
  const [, list = '', by = ''] = /^\s*group\(\s*(\w+)\s*,\s*"([^"]*)"\s*\)\s*$/.exec(each) ?? [];
  const of = gathered.find((g) => g.name === (list || each));
  if (!of) return { names: [] };
  if (!list) return { names: itNames(of.fields, `Each of ${of.name}`) };
  const group = `Each ${(of.fields.find((f) => f.name === by)?.label ?? by).toLowerCase()} of ${of.name}`;
  return {
    names: [
      { path: 'it.key', label: of.fields.find((f) => f.name === by)?.label ?? by, type: '', group },
      { path: 'len(it.records)', label: 'How many there are', type: 'number', group },
      { path: 'it.records', label: 'Its records', type: 'list', group },
    ],
    group: { name: 'it.records', many: true, fields: of.fields },
  };
}

/** The lists that a tell can go through one group after the other, by fields that tell records apart. */
export const groupsOf = (gathered: GatheredName[]) =>
  gathered
    .filter((g) => g.many && !g.table)
    .flatMap((g) =>
      [...g.fields]
        .filter((f) => ['choice', 'person', 'yes/no', 'text', 'choices'].includes(f.type) && f.name !== 'id')
        .sort((a, b) => Number(b.type === 'choice') - Number(a.type === 'choice'))
        .slice(0, 8)
        .map((f) => ({
          value: `group(${g.name}, "${f.name}")`,
          label: `for each ${f.label.toLowerCase()} of ${g.name}`,
        })),
    );

/** What stands at a name, in an object that holds the records by their names. */
export function valueAt(path: string, roots: Record<string, unknown>): string {
  const steps = [...path.matchAll(/([A-Za-z_]\w*)|\["((?:[^"\\]|\\.)*)"\]/g)].map(
    (m) => m[1] ?? m[2]!.replace(/\\(.)/g, '$1'),
  );
  let at: unknown = roots;
  for (const step of steps) {
    if (Array.isArray(at)) at = at[0];
    at = at && typeof at === 'object' ? (at as Record<string, unknown>)[step] : undefined;
  }
  return shown(at);
}

function shown(v: unknown): string {
  if (v === null || v === undefined) return '';
  if (Array.isArray(v))
    return v.length > 0 && typeof v[0] === 'object' ? `${v.length}` : v.map(shown).join(', ');
  if (typeof v === 'object') {
    const { amount, currency, name } = v as Record<string, unknown>;
    return amount !== undefined ? `${shown(amount)} ${shown(currency)}` : shown(name);
  }
  return String(v);
}

/** The names under their groups, in the order in which these first come. */
export function grouped(names: Name[]): [string, Name[]][] {
  const out = new Map<string, Name[]>();
  for (const n of names) out.set(n.group, [...(out.get(n.group) ?? []), n]);
  return [...out];
}

/** Whether a name is meant by what was typed: its label, its path or its value. */
export const meant = (n: Name, value: string, typed: string) =>
  `${n.label} ${n.path} ${value}`.toLowerCase().includes(typed.toLowerCase());
