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
  type TextNode,
} from 'lexical';
import type { FieldItem } from '../../../api/client';
import { chipLabel, piecesOf } from '../../../parts/template';
import { $chip, $isChip } from './ChipNode';

/** The pieces of an editor's content, in order. */
export function $leaves(node: LexicalNode): LexicalNode[] {
  return $isElementNode(node) ? node.getChildren().flatMap($leaves) : [node];
}

/** What the editor holds, as the sheet has it. */
export function $text(): string {
  return $getRoot()
    .getChildren()
    .map((block) =>
      $leaves(block)
        .map((n) =>
          $isChip(n) ? '${' + n.getFormula() + '}' : $isLineBreakNode(n) ? '\n' : n.getTextContent(),
        )
        .join(''),
    )
    .join('\n');
}

/** Makes a text of a sheet the editor's content. */
export function $fill(value: string, fields: FieldItem[]) {
  const block = $createParagraphNode();
  for (const piece of piecesOf(value)) {
    if ('formula' in piece) {
      block.append($chip(piece.formula, chipLabel(piece.formula, fields)));
      continue;
    }
    piece.text.split('\n').forEach((line, i) => {
      if (i > 0) block.append($createLineBreakNode());
      if (line) block.append($createTextNode(line));
    });
  }
  $getRoot().clear().append(block);
}

/** Makes chips of formulas that were typed or pasted. */
export function $toChips(node: TextNode, fields: FieldItem[]) {
  if ($isChip(node) || !node.isSimpleText()) return;
  const pieces = piecesOf(node.getTextContent());
  if (!pieces.some((p) => 'formula' in p)) return;
  let last: LexicalNode = node;
  for (const piece of pieces) {
    const next =
      'formula' in piece
        ? $chip(piece.formula, chipLabel(piece.formula, fields))
        : $createTextNode(piece.text);
    last.insertAfter(next);
    last = next;
  }
  node.remove();
  last.selectEnd();
}

/**
 * Puts marks around what is selected and the cursor before the second. A chip is a whole: a mark inside one
 * goes to its nearer side.
 */
export function $wrap(before: string, after: string) {
  const chosen = $getSelection();
  const at = $isRangeSelection(chosen) ? chosen : $getRoot().selectEnd();
  const [start, end] = (at.isBackward() ? [at.focus, at.anchor] : [at.anchor, at.focus]).map(placeOf) as [
    Place,
    Place,
  ];
  if (at.isCollapsed()) {
    const made = $put([...$nodesOf(before), ...$nodesOf(after)], start);
    const cursor = made[$nodesOf(before).length - 1];
    if ($isTextNode(cursor)) cursor.selectEnd();
    else cursor?.selectNext();
    return;
  }
  const behind = $put($nodesOf(after), end);
  const ahead = $put($nodesOf(before), start, behind);
  const cursor = behind[0] ?? ahead.at(-1);
  if (behind[0]) behind[0].selectPrevious();
  else cursor?.selectNext();
}

interface Place {
  key: string;
  offset: number;
  type: 'text' | 'element';
}

const placeOf = (p: Place): Place => ({ key: p.key, offset: p.offset, type: p.type });

/** Words as nodes: one for each line, and the breaks between. */
function $nodesOf(words: string): LexicalNode[] {
  return words
    .split('\n')
    .flatMap((line, i) => [
      ...(i > 0 ? [$createLineBreakNode()] : []),
      ...(line ? [$createTextNode(line)] : []),
    ]);
}

/**
 * Puts nodes at a place. What the editor itself offers writes at the cursor and nowhere else, and asks a chip
 * that takes no text for ever. What was put just now goes behind, however its place was named.
 */
function $put(nodes: LexicalNode[], { key, offset, type }: Place, behind: LexicalNode[] = []): LexicalNode[] {
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
  const toChipEnd = $isChip(node) && offset * 2 >= size;
  let left: LexicalNode | undefined;
  if (toChipEnd || (!$isChip(node) && offset >= size)) left = node;
  else if (offset > 0 && !$isChip(node) && $isTextNode(node)) left = node.splitText(offset)[0];
  else if (behind.at(-1)?.is(node.getPreviousSibling())) {
    nodes.forEach((n) => behind[0]!.insertBefore(n));
    return nodes;
  }
  if (!left) nodes.forEach((n) => node.insertBefore(n));
  else nodes.reduce((last, n) => (last.insertAfter(n), n), left);
  return nodes;
}
