/** A piece of a text with formulas: words as they are, or a formula from between its markers. */
export type Piece = { text: string } | { formula: string };

/** Takes a text apart at its formulas. Markers inside a formula's own texts and braces belong to it. */
export function piecesOf(template: string): Piece[] {
  const out: Piece[] = [];
  let from = 0;
  for (let at = template.indexOf('${'); at >= 0; at = template.indexOf('${', from)) {
    const end = closing(template, at + 2);
    if (end < 0) break;
    if (at > from) out.push({ text: template.slice(from, at) });
    out.push({ formula: template.slice(at + 2, end) });
    from = end + 1;
  }
  if (from < template.length) out.push({ text: template.slice(from) });
  return out;
}

/** Where the brace stands that closes a formula which begins here; -1 for nowhere. */
function closing(s: string, from: number): number {
  let depth = 0;
  let quote = '';
  for (let i = from; i < s.length; i++) {
    const c = s[i]!;
    if (quote) {
      if (c === '\\' && quote !== '`') i++;
      else if (c === quote) quote = '';
      continue;
    }
    if (c === '"' || c === "'" || c === '`') quote = c;
    else if (c === '{') depth++;
    else if (c === '}' && depth-- === 0) return i;
  }
  return -1;
}

interface Named {
  name: string;
  label: string;
  type: string;
  currency?: string;
}

const escaped = (s: string) => s.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');

/** The field that a formula shows: the first that it names. */
export function fieldOf<F extends Named>(formula: string, fields: F[]): F | undefined {
  let first: { field: F; at: number } | undefined;
  for (const field of fields) {
    const at = formula.search(new RegExp(`(^|[^\\w.])record\\.${escaped(field.name)}($|[^\\w.])`));
    if (at >= 0 && (!first || at < first.at)) first = { field, at };
  }
  return first?.field;
}

/**
 * The currency of an amount, as a formula: the record's own where it has one, else what its field is known to be in; empty where
 * neither is known. Where a record leaves its own out, none is made up for it.
 */
function currencyOf(field: Named, fields: Named[]): string {
  const cut = field.name.lastIndexOf('.') + 1;
  const [within, last] = [field.name.slice(0, cut), field.name.slice(cut)];
  const names = [`${last}_currency`, `${last}_currency_code`, 'currency', 'currency_code'];
  const own = names
    .map((n) => fields.find((f) => f.name === within + n && ['text', 'choice', 'any'].includes(f.type)))
    .find(Boolean);
  if (own) return `record.${own.name}`;
  return field.currency ? JSON.stringify(field.currency) : '';
}

/** What a chip is called: the label of its field, and how it is formatted. */
export function chipLabel(formula: string, fields: Named[]): string {
  const field = fieldOf(formula, fields);
  const f = formula.trim();
  if (!field) return f.length > 40 ? f.slice(0, 39) + '…' : f;
  const bare = `record.${field.name}`;
  if (f === bare) return field.label;
  if (f.startsWith('money(') && f === toldAs(bare, fields)) return `${field.label} with its currency`;
  const inner = f.replace(bare, field.label);
  return inner.length > 48 ? inner.slice(0, 47) + '…' : inner;
}

/** How a message tells what stands at a path: a moment to the minute, an amount with its currency where one is known. */
export function toldAs(path: string, fields: Named[]): string {
  const field = fields.find((f) => path === `record.${f.name}`);
  if (field?.type === 'moment') return `date(${path}, "d MMM HH:mm")`;
  const currency = field?.type === 'money' ? currencyOf(field, fields) : '';
  return currency ? `money(${path}, ${currency})` : path;
}

/** The formats that suit a field of a record with these fields, each as a formula. */
export function formatsOf(field: Named, fields: Named[]): { words: string; formula: string }[] {
  const r = `record.${field.name}`;
  const plain = { words: 'as it is', formula: r };
  switch (field.type) {
    case 'date':
      return [
        plain,
        { words: '20 Nov 2026', formula: `date(${r}, "d MMM yyyy")` },
        { words: 'Fri 20 Nov', formula: `date(${r}, "EEE d MMM")` },
      ];
    case 'moment':
      return [
        plain,
        { words: '20 Nov 06:41', formula: `date(${r}, "d MMM HH:mm")` },
        { words: '06:41', formula: `date(${r}, "HH:mm")` },
        { words: '3 h ago', formula: `ago(${r})` },
      ];
    case 'span':
      return [plain, { words: '1 h 20 min', formula: `words(${r})` }];
    case 'number':
      return [
        plain,
        { words: '1,240', formula: `number(${r}, 0)` },
        { words: '1,240.50', formula: `number(${r}, 2)` },
        { words: '12 %', formula: `percent(${r})` },
      ];
    case 'money': {
      const currency = currencyOf(field, fields);
      return [
        plain,
        ...(currency ? [{ words: 'with its currency', formula: `money(${r}, ${currency})` }] : []),
        { words: '1,240', formula: `number(${r}, 0)` },
      ];
    }
    case 'text':
    case 'link':
    case 'person':
      return [
        plain,
        { words: 'shortened', formula: `shorten(${r}, 60)` },
        { words: 'masked', formula: `mask(${r})` },
      ];
  }
  return [plain];
}

const fallback = /^or\((.*), ("(?:[^"\\]|\\.)*")\)$/s;

/** What stands in the place of an empty value, and the formula without it. */
export function emptyOf(formula: string): { inner: string; text: string } {
  const m = fallback.exec(formula.trim());
  if (!m) return { inner: formula, text: '' };
  try {
    return { inner: m[1]!, text: JSON.parse(m[2]!) as string };
  } catch {
    return { inner: formula, text: '' };
  }
}

/** A formula with something in the place of an empty value. */
export const withEmpty = (inner: string, text: string) =>
  text ? `or(${inner}, ${JSON.stringify(text)})` : inner;
