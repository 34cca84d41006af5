import {
  $createLineBreakNode,
  $createParagraphNode,
  $createTextNode,
  $getNodeByKey,
  $getRoot,
  $getSelection,
  $isElementNode,
  $isLineBreakNode,
  $isRangeSelection,
  $isTextNode,
  type LexicalNode,
  type RangeSelection,
  type TextNode,
} from 'lexical';
import type { FieldItem } from '../../../api/client';
import { chipLabel, piecesOf } from '../../../parts/template';
import { $chip, $isChip } from './ChipNode';
import { BOLD, ITALIC, linkParts, linkSource, plain, readLine, writeLine, type Run } from './markup';
import { $isPiece, $piece } from './PieceNode';
import { $isWhole } from './WholeNode';

/** The pieces of an editor's content, in order. */
export function $leaves(node: LexicalNode): LexicalNode[] {
  return $isElementNode(node) ? node.getChildren().flatMap($leaves) : [node];
}

/** What the editor holds, line by line. */
function $lines(): LexicalNode[][] {
  const out: LexicalNode[][] = [];
  $getRoot()
    .getChildren()
    .forEach((block) => {
      out.push([]);
      for (const leaf of $leaves(block))
        if ($isLineBreakNode(leaf)) out.push([]);
        else out.at(-1)!.push(leaf);
    });
  return out;
}

const $run = (n: LexicalNode): Run => {
  const format = $isTextNode(n) ? n.getFormat() & (BOLD | ITALIC) : 0;
  if ($isChip(n)) return { formula: n.getFormula(), format };
  if ($isPiece(n)) return n.isLink() ? { link: n.getSource(), format } : { bullet: n.getSource() };
  return { text: n.getTextContent(), format };
};

/** What the editor holds, as the sheet has it. */
export const $text = (): string =>
  $lines()
    .map((line) => writeLine(line.map($run)))
    .join('\n');

/** Whether marks were typed that are not shown as what they mean yet. */
export function $unread(): boolean {
  const as = (runs: Run[]) =>
    JSON.stringify(
      runs.reduce<Run[]>((out, r) => {
        const last = out.at(-1);
        if ('text' in r && last && 'text' in last && last.format === r.format)
          out[out.length - 1] = { ...last, text: last.text + r.text };
        else out.push(r);
        return out;
      }, []),
    );
  return $lines().some((line) => {
    const runs = line.map($run);
    const read = readLine(writeLine(runs));
    return read.some((r) => !('format' in r) || 'link' in r || r.format > 0) && as(read) !== as(runs);
  });
}

/** Makes a text of a sheet the editor's content; with its marks shown as what they mean, or as they are written. */
export function $fill(value: string, fields: FieldItem[], marks = false) {
  const block = $createParagraphNode();
  linesOf(value).forEach((line, i) => {
    if (i > 0) block.append($createLineBreakNode());
    for (const run of marks ? readLine(line) : plain(line)) block.append($nodeOf(run, fields));
  });
  $getRoot().clear().append(block);
}

function $nodeOf(run: Run, fields: FieldItem[]): TextNode {
  if ('bullet' in run) return $piece(run.bullet, '• ');
  if ('link' in run) return $linkNode(run.link, fields).setFormat(run.format);
  if ('formula' in run) return $chip(run.formula, chipLabel(run.formula, fields)).setFormat(run.format);
  return $createTextNode(run.text).setFormat(run.format);
}

/** Makes a link of its source. */
export const $linkNode = (source: string, fields: FieldItem[]) =>
  $piece(source, labelOf(linkParts(source).text, fields));

/** A text with the labels of its formulas in their places. */
const labelOf = (text: string, fields: FieldItem[]) =>
  piecesOf(text)
    .map((p) => ('formula' in p ? chipLabel(p.formula, fields) : p.text))
    .join('');

/** A text's lines. A break within a formula belongs to it. */
function linesOf(value: string): string[] {
  const out = [''];
  for (const p of piecesOf(value)) {
    const parts = 'formula' in p ? ['${' + p.formula + '}'] : p.text.split('\n');
    out[out.length - 1]! += parts[0]!;
    out.push(...parts.slice(1));
  }
  return out;
}

/** Makes chips of formulas that were typed or pasted. */
export function $toChips(node: TextNode, fields: FieldItem[]) {
  if ($isWhole(node) || !node.isSimpleText()) return;
  const pieces = piecesOf(node.getTextContent());
  if (!pieces.some((p) => 'formula' in p)) return;
  let last: LexicalNode = node;
  for (const piece of pieces) {
    const next = (
      'formula' in piece
        ? $chip(piece.formula, chipLabel(piece.formula, fields))
        : $createTextNode(piece.text)
    ).setFormat(node.getFormat());
    last.insertAfter(next);
    last = next;
  }
  node.remove();
  last.selectEnd();
}

/** Whether the cursor stands right behind a word or a chip. */
export function $touches(at: RangeSelection): boolean {
  const [first] = at.isBackward() ? [at.focus] : [at.anchor];
  const node = first.getNode();
  if ($isTextNode(node) && !$isWhole(node) && first.offset > 0)
    return /\S/.test(node.getTextContent()[first.offset - 1]!);
  const before = $isElementNode(node)
    ? node.getChildAtIndex(first.offset - 1)
    : first.offset > 0
      ? node
      : node.getPreviousSibling();
  if (!before || $isLineBreakNode(before)) return false;
  if ($isPiece(before) && !before.isLink()) return false;
  return $isWhole(before) || /\S$/.test(before.getTextContent());
}

/** The words and formulas that are selected, cut out of what they stood in. A formula is a whole: it is chosen or not. */
function $chosen(at: RangeSelection): TextNode[] {
  const [start, end] = (at.isBackward() ? [at.focus, at.anchor] : [at.anchor, at.focus]).map(placeOf) as [
    Place,
    Place,
  ];
  const out: TextNode[] = [];
  const all = $getRoot().getChildren().flatMap($leaves).filter($isTextNode);
  const order = new Map(all.map((n, i) => [n.getKey(), i]));
  const [first, last] = [$edge(start, order, 0), $edge(end, order, 1)];
  all.forEach((node, i) => {
    if (i < first || i > last) return;
    const size = node.getTextContentSize();
    const from = node.getKey() === start.key && start.type === 'text' ? start.offset : 0;
    const to = node.getKey() === end.key && end.type === 'text' ? end.offset : size;
    if ($isWhole(node)) {
      if (from * 2 < size && to * 2 > size) out.push(node);
    } else if (from < to) out.push($cut(node, from, to));
  });
  return out;
}

/** The number of the leaf that an end of the selection lies at: the first one behind a start, the last one before an end. */
function $edge(p: Place, order: Map<string, number>, isEnd: 0 | 1): number {
  const own = order.get(p.key);
  if (own !== undefined) return own;
  const node = $getNodeByKey(p.key);
  const children = $isElementNode(node) ? node.getChildren() : [];
  const list = (isEnd ? children.slice(0, p.offset) : children.slice(p.offset)).flatMap($leaves);
  const numbers = list.map((n) => order.get(n.getKey())).filter((n) => n !== undefined);
  if (isEnd) return numbers.at(-1) ?? -1;
  return numbers[0] ?? order.size;
}

function $cut(node: TextNode, from: number, to: number): TextNode {
  if (from === 0 && to === node.getTextContentSize()) return node;
  const pieces = node.splitText(...(from > 0 ? [from, to] : [to]));
  return pieces[from > 0 ? 1 : 0]!;
}

/** Makes what is selected bold or italic, or takes that off where all of it is. */
export function $format(format: number) {
  const at = $getSelection();
  if (!$isRangeSelection(at)) return;
  if (at.isCollapsed()) {
    at.toggleFormat(format === BOLD ? 'bold' : 'italic'); // of what is typed next
    return;
  }
  const nodes = $chosen(at).filter((n) => !$isPiece(n) || n.isLink());
  const all = nodes.every((n) => n.getFormat() & format);
  for (const n of nodes) n.setFormat(all ? n.getFormat() & ~format : n.getFormat() | format);
}

/** Makes a link of what is selected, or a new one at the cursor; it goes nowhere yet. Its key is given back, and its source. */
export function $link(fields: FieldItem[]): { key: string; link: string } {
  const chosen = $getSelection();
  const at = $isRangeSelection(chosen) ? chosen : $getRoot().selectEnd();
  const nodes = at.isCollapsed() ? [] : $chosen(at).filter((n) => !$isPiece(n));
  const text = nodes.map((n) => ($isChip(n) ? '${' + n.getFormula() + '}' : n.getTextContent())).join('');
  const source = linkSource({ text, to: 'https://' });
  const made = $linkNode(source, fields);
  if (nodes[0]) {
    nodes[0].insertBefore(made);
    nodes.forEach((n) => n.remove());
  } else $put([made], placeOf(at.anchor));
  made.selectNext();
  return { key: made.getKey(), link: source };
}

/** Makes each line that the selection touches an item of a list, or takes that off where all of them are. */
export function $bullets() {
  const chosen = $getSelection();
  const at = $isRangeSelection(chosen) ? chosen : $getRoot().selectEnd();
  const keys = new Set([at.anchor.key, at.focus.key, ...at.getNodes().map((n) => n.getKey())]);
  const touched = $lines().filter((line) => line.some((n) => keys.has(n.getKey())));
  const lines =
    touched.length > 0
      ? touched
      : $lines()
          .filter((l) => l.length > 0)
          .slice(-1);
  const isItem = (line: LexicalNode[]) => $isPiece(line[0]) && !line[0].isLink();
  if (lines.length > 0 && lines.every(isItem)) lines.forEach((line) => line[0]!.remove());
  else lines.filter((line) => !isItem(line)).forEach((line) => line[0]!.insertBefore($piece('- ', '• ')));
}

interface Place {
  key: string;
  offset: number;
  type: 'text' | 'element';
}

const placeOf = (p: Place): Place => ({ key: p.key, offset: p.offset, type: p.type });

/**
 * Puts nodes at a place. What the editor itself offers writes at the cursor and nowhere else, and asks a chip
 * that takes no text for ever.
 */
function $put(nodes: LexicalNode[], { key, offset, type }: Place): LexicalNode[] {
  const node = $getNodeByKey(key);
  if (!node || nodes.length === 0) return [];
  if (type === 'element') {
    if ($isElementNode(node)) {
      const block = node.getType() === 'root' ? (node.getLastChild() ?? $createParagraphNode()) : node;
      if (!block.isAttached()) node.append(block);
      if ($isElementNode(block)) block.splice(block === node ? offset : block.getChildrenSize(), 0, nodes);
    }
    return nodes;
  }
  const size = node.getTextContentSize();
  const whole = $isWhole(node);
  let left: LexicalNode | undefined;
  if (whole ? offset * 2 >= size : offset >= size) left = node;
  else if (offset > 0 && !whole && $isTextNode(node)) left = node.splitText(offset)[0];
  if (!left) nodes.forEach((n) => node.insertBefore(n));
  else nodes.reduce((last, n) => (last.insertAfter(n), n), left);
  return nodes;
}
