/** A number as it was written: its digits are kept. */
export class Digits {
  readonly source: string;
  constructor(source: string) {
    this.source = source;
  }
}

/** A place of a shape, as JSON has it. */
export type Node = string | boolean | null | Digits | Node[] | { [key: string]: Node };

/** Set before a number while JSON is read, so that it comes as it was written. */
const mark = '\u0000';

/** Reads a shape; undefined where it is no JSON. */
export function readShape(text: string): Node | undefined {
  const marked = text.replace(/"(?:\\.|[^"\\])*"|-?[\d][\d.eE+-]*/g, (t) =>
    isNumber(t) ? `"\\u0000${t}"` : t,
  );
  try {
    return JSON.parse(marked, (_, v: unknown) =>
      typeof v === 'string' && v.startsWith(mark) ? new Digits(v.slice(1)) : v,
    ) as Node;
  } catch {
    return undefined;
  }
}

/** Writes a shape as JSON, indented. */
export function writeShape(node: Node, indent = ''): string {
  const more = indent + '  ';
  if (node instanceof Digits) return node.source;
  if (Array.isArray(node))
    return node.length === 0
      ? '[]'
      : `[\n${node.map((n) => more + writeShape(n, more)).join(',\n')}\n${indent}]`;
  if (typeof node === 'object' && node !== null) {
    const rows = Object.entries(node);
    return rows.length === 0
      ? '{}'
      : `{\n${rows.map(([k, n]) => `${more}${JSON.stringify(k)}: ${writeShape(n, more)}`).join(',\n')}\n${indent}}`;
  }
  return JSON.stringify(node);
}

/** What a place of a shape is, in words. */
export const sorts = [
  'text',
  'number',
  'yes or no',
  'nothing',
  'group',
  'list',
  'for each',
  'only when',
] as const;
export type Sort = (typeof sorts)[number];

/** An object that is no structure of the call's own: what repeats, or what stands under a condition. */
const has = (node: Node, key: string): node is Record<string, Node> =>
  typeof node === 'object' &&
  node !== null &&
  !Array.isArray(node) &&
  !(node instanceof Digits) &&
  key in node;

/** What a place is. */
export function sortOf(node: Node): Sort {
  if (node === null) return 'nothing';
  if (typeof node === 'string') return 'text';
  if (typeof node === 'boolean') return 'yes or no';
  if (node instanceof Digits) return 'number';
  if (Array.isArray(node)) return 'list';
  if (has(node, '$each')) return 'for each';
  return has(node, '$when') ? 'only when' : 'group';
}

/** Makes a place something else, keeping what is inside as far as that goes. */
export function made(node: Node, sort: Sort): Node {
  const now = sortOf(node);
  if (now === sort) return node;
  const inner =
    now === 'for each' || now === 'only when'
      ? ((node as Record<string, Node>)[now === 'for each' ? '$as' : '$then'] ?? '')
      : node;
  if (sort === 'for each') return { $each: '${post.facts}', $as: inner };
  if (sort === 'only when') return { $when: '${post.link}', $then: inner };
  const is = sortOf(inner);
  if (is === sort) return inner;
  if (sort === 'list') return inner === null || inner === '' ? [] : [inner];
  if (sort === 'group') return Array.isArray(inner) || inner === null || inner === '' ? {} : { text: inner };
  if (sort === 'nothing') return null;
  const text = typeof inner === 'string' ? inner : inner instanceof Digits ? inner.source : '';
  if (sort === 'text') return text;
  if (sort === 'yes or no') return text === 'true' || text === 'yes';
  return new Digits(isNumber(text) ? text : '0');
}

/** Whether a text is a number as JSON writes one. */
export const isNumber = (text: string) => /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(text);

/** A key of the call's own as a shape writes it, and back: one that begins with $ is written $$. */
export const keyWritten = (key: string) => (key.startsWith('$') ? '$' + key : key);
export const keyRead = (key: string) => (key.startsWith('$$') ? key.slice(1) : key);
