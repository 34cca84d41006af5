import { piecesOf } from '../../../parts/template';

/**
 * The marks of a line (CommonMark), read and written: bold, italics, links, and the bullet of a list. A line whose marks
 * are not written as they would be here, such as with underscores, is left as the text it is.
 */

export const BOLD = 1;
export const ITALIC = 2;

/** A part of a line as it is shown: words or a formula with how they are set, a whole link, or the bullet of a list. */
export type Run =
  | { text: string; format: number }
  | { formula: string; format: number }
  | { link: string; format: number }
  | { bullet: string };

/** A link's text and address, both with formulas as the sheet has them. */
export interface LinkParts {
  text: string;
  to: string;
}

const formula = (f: string) => '${' + f + '}';

/** What a character is taken for where marks are looked at: a formula stands for a letter. */
const isSpace = (c: string | undefined) => c === undefined || /\s/.test(c);
const isPunctuation = (c: string | undefined) => c !== undefined && /^[\p{P}\p{S}]$/u.test(c);

type Unit = { source: string; char: string; atom?: 'formula' | 'link' | 'code'; stars?: boolean };

/** Takes a line apart into characters, formulas, links and code. */
function unitsOf(line: string): Unit[] {
  const flat: Unit[] = [];
  for (const p of piecesOf(line)) {
    if ('formula' in p) flat.push({ source: formula(p.formula), char: 'x', atom: 'formula' });
    else for (const c of p.text) flat.push({ source: c, char: c });
  }
  const out: Unit[] = [];
  for (let i = 0; i < flat.length; i++) {
    const u = flat[i]!;
    const next = flat[i + 1];
    if (u.char === '\\' && !u.atom && next && !next.atom) {
      out.push({ source: u.source + next.source, char: next.char, atom: 'code' });
      i++;
      continue;
    }
    if (u.char === '`' && !u.atom) {
      let n = 1;
      while (flat[i + n]?.char === '`' && !flat[i + n]!.atom) n++;
      const end = closingTicks(flat, i + n, n);
      const to = end < 0 ? i + n : end + n;
      out.push({ source: join(flat.slice(i, to)), char: '`', atom: 'code' });
      i = to - 1;
      continue;
    }
    if (u.char === '[' && !u.atom) {
      const end = linkEnd(flat, i);
      if (end > 0) {
        out.push({ source: join(flat.slice(i, end)), char: 'x', atom: 'link' });
        i = end - 1;
        continue;
      }
    }
    out.push({ ...u, stars: u.char === '*' && !u.atom });
  }
  return out;
}

const join = (list: { source: string }[]) => list.map((u) => u.source).join('');

function closingTicks(flat: Unit[], from: number, n: number): number {
  for (let i = from; i < flat.length; i++) {
    let run = 0;
    while (flat[i + run]?.char === '`' && !flat[i + run]!.atom) run++;
    if (run === n) return i;
    if (run > 0) i += run - 1;
  }
  return -1;
}

/** Where a link that begins here ends, or -1. Its text holds no brackets, its address no spaces or brackets. */
function linkEnd(flat: Unit[], from: number): number {
  let i = from + 1;
  while (i < flat.length && (flat[i]!.atom || !'[]`\\'.includes(flat[i]!.char))) i++;
  if (i === from + 1 || flat[i]?.char !== ']' || flat[i + 1]?.char !== '(' || flat[i + 1]?.atom) return -1;
  const at = i + 2;
  i = at;
  while (i < flat.length && (flat[i]!.atom || !/[\s()<>\\]/.test(flat[i]!.char))) i++;
  return i > at && flat[i]?.char === ')' ? i + 1 : -1;
}

interface Delimiter {
  from: number;
  count: number;
  length: number;
  opens: boolean;
  closes: boolean;
}

/** Reads a line. */
export function readLine(line: string): Run[] {
  const bullet = /^[-*+] (?=\S)/.exec(line)?.[0];
  const runs = bullet ? [{ bullet } as Run, ...inlines(line.slice(bullet.length))] : inlines(line);
  return writeLine(runs) === line ? runs : plain(line);
}

/** A line whose marks are not looked at. */
export const plain = (line: string): Run[] =>
  piecesOf(line).map((p) =>
    'formula' in p ? { formula: p.formula, format: 0 } : { text: p.text, format: 0 },
  );

/** Finds what is bold and italic, by the rules of CommonMark for runs of stars. */
function inlines(line: string): Run[] {
  const units = unitsOf(line);
  const runs: Delimiter[] = [];
  for (let i = 0; i < units.length; i++) {
    if (!units[i]!.stars) continue;
    let n = 1;
    while (units[i + n]?.stars) n++;
    const [before, after] = [units[i - 1]?.char, units[i + n]?.char];
    const left = !isSpace(after) && (!isPunctuation(after) || isSpace(before) || isPunctuation(before));
    const right = !isSpace(before) && (!isPunctuation(before) || isSpace(after) || isPunctuation(after));
    runs.push({ from: i, count: n, length: n, opens: left, closes: right });
    i += n - 1;
  }
  const format = units.map(() => 0);
  const used = units.map(() => false);
  for (let c = 0; c < runs.length; c++) {
    const closer = runs[c]!;
    while (closer.closes && closer.count > 0) {
      let o = c - 1;
      for (; o >= 0; o--) {
        const opener = runs[o]!;
        if (!opener.opens || opener.count === 0) continue;
        const three = (opener.closes || closer.opens) && (opener.length + closer.length) % 3 === 0;
        if (!three || (opener.length % 3 === 0 && closer.length % 3 === 0)) break;
      }
      if (o < 0) break;
      const opener = runs[o]!;
      const n = opener.count >= 2 && closer.count >= 2 ? 2 : 1;
      // The opener's last stars go with the closer's first.
      const start = opener.from + opener.count - n;
      const end = closer.from + (closer.length - closer.count);
      for (let i = start; i < start + n; i++) used[i] = true;
      for (let i = end; i < end + n; i++) used[i] = true;
      for (let i = start + n; i < end; i++) format[i]! |= n === 2 ? BOLD : ITALIC;
      opener.count -= n;
      closer.count -= n;
      for (let i = o + 1; i < c; i++) runs[i]!.count = 0; // what stands between is no mark
    }
  }
  const out: Run[] = [];
  units.forEach((u, i) => {
    if (used[i]) return;
    const last = out.at(-1);
    if (u.atom === 'formula') out.push({ formula: u.source.slice(2, -1), format: format[i]! });
    else if (u.atom === 'link') out.push({ link: u.source, format: format[i]! });
    else if (last && 'text' in last && last.format === format[i]) last.text += u.source;
    else out.push({ text: u.source, format: format[i]! });
  });
  return out.flatMap((r): Run[] =>
    'text' in r ? plain(r.text).map((p) => ({ ...p, format: r.format })) : [r],
  );
}

const sourceOf = (r: Run) =>
  'bullet' in r ? r.bullet : 'formula' in r ? formula(r.formula) : 'link' in r ? r.link : r.text;

/** Writes a line. Marks go inside the spaces at the ends of what they are around. */
export function writeLine(runs: Run[]): string {
  let out = '';
  let open: number[] = []; // the marks that are open, the outermost first
  let spaces = '';
  const marks = (format: number) => (format === BOLD ? '**' : '*');
  const to = (format: number) => {
    const keep = open.filter((f) => format & f);
    let shut = '';
    while (open.some((f) => !(format & f))) {
      shut += marks(open.at(-1)!);
      open = open.slice(0, -1);
    }
    out += shut + spaces;
    spaces = '';
    for (const f of [BOLD, ITALIC])
      if (format & f && !open.includes(f)) {
        out += marks(f);
        open = [...open, f];
      }
    return keep;
  };
  for (const r of runs) {
    if ('bullet' in r) {
      out += r.bullet;
      continue;
    }
    const source = sourceOf(r);
    if ('text' in r) {
      const lead = /^\s*/.exec(source)![0];
      const body = source.slice(lead.length).replace(/\s+$/, '');
      spaces += lead;
      if (!body) continue;
      to(r.format);
      out += body;
      spaces = source.slice(lead.length + body.length);
    } else {
      to(r.format);
      out += source;
    }
  }
  to(0);
  return out;
}

/** A link's parts, from its source. */
export function linkParts(source: string): LinkParts {
  const at = source.lastIndexOf('](');
  return { text: source.slice(1, at), to: source.slice(at + 2, -1) };
}

/** A link as a sheet has it. What would break it is taken out. */
export const linkSource = ({ text, to }: LinkParts): string =>
  `[${outside(text, /[[\]`\\\n]/g) || 'link'}](${outside(to, /[\s()<>\\]/g) || 'https://'})`;

/** Takes characters out of what stands between formulas. */
const outside = (text: string, what: RegExp) =>
  piecesOf(text)
    .map((p) => ('formula' in p ? formula(p.formula) : p.text.replace(what, '')))
    .join('');
