import {
  $createRangeSelection,
  $getRoot,
  $isTextNode,
  $setSelection,
  createEditor,
  type LexicalEditor,
} from 'lexical';
import { describe, expect, it } from 'vitest';
import { piecesOf } from '../../../parts/template';
import { $isChip, ChipNode } from './ChipNode';
import { $fill, $leaves, $text, $wrap } from './content';

/** Numbers that seem random and are the same in every run. */
function seeded(seed: number) {
  return (below: number) => {
    seed = (Math.imul(seed, 1664525) + 1013904223) >>> 0;
    return Math.floor((seed / 2 ** 32) * below);
  };
}

const editorOf = (): LexicalEditor =>
  createEditor({
    nodes: [ChipNode],
    onError: (e) => {
      throw e;
    },
  });

function within<T>(editor: LexicalEditor, work: () => T): T {
  let made: T | undefined;
  editor.update(() => void (made = work()), { discrete: true });
  return made as T;
}

/** A text as what a cursor steps over: letters, breaks and whole formulas. */
const steps = (text: string) =>
  piecesOf(text).flatMap((p) => ('formula' in p ? ['${' + p.formula + '}'] : p.text.split('')));

/** Sets the selection from one step of the text to another. Every step can be pointed at in several ways. */
function $select(from: number, to: number, pick: (below: number) => number) {
  const at = (step: number): [string, number, 'text' | 'element'] => {
    const block = $getRoot().getFirstChildOrThrow();
    const ways: [string, number, 'text' | 'element'][] = [];
    let passed = 0;
    $leaves(block).forEach((leaf, i) => {
      const size = $isTextNode(leaf) && !$isChip(leaf) ? leaf.getTextContentSize() : 1;
      if (passed === step) ways.push([block.getKey(), i, 'element']);
      if ($isChip(leaf)) {
        if (step === passed) ways.push([leaf.getKey(), 0, 'text']);
        if (step === passed + 1) ways.push([leaf.getKey(), leaf.getTextContentSize(), 'text']);
      } else if ($isTextNode(leaf) && step >= passed && step <= passed + size)
        ways.push([leaf.getKey(), step - passed, 'text']);
      passed += size;
    });
    if (passed === step) ways.push([block.getKey(), $leaves(block).length, 'element']);
    return ways[pick(ways.length)]!;
  };
  const chosen = $createRangeSelection();
  chosen.anchor.set(...at(from));
  chosen.focus.set(...at(to));
  $setSelection(chosen);
}

const parts = [
  'Milk',
  ' ',
  '\n',
  '${record.farm}',
  '${or(record.driver, "nobody")}',
  '**',
  'ß',
  'late',
  '${now}',
];
const marks: [string, string][] = [
  ['**', '**'],
  ['*', '*'],
  ['[', '](https://)'],
  ['\n- ', ''],
];

describe('the content of a text with chips', () => {
  it('is the text it was filled with, and marks go where they are put', () => {
    const pick = seeded(20261126);
    for (let round = 0; round < 1500; round++) {
      let text = Array.from({ length: pick(7) }, () => parts[pick(parts.length)]).join('');
      const editor = editorOf();
      within(editor, () => $fill(text, []));
      expect(within(editor, $text)).toBe(text);
      for (let edit = 0; edit < 3; edit++) {
        const all = steps(text);
        const ends = [pick(all.length + 1), pick(all.length + 1)];
        const [from, to] = [Math.min(...ends), Math.max(...ends)];
        const [before, after] = marks[pick(marks.length)]!;
        within(editor, () => {
          $select(ends[0]!, ends[1]!, pick);
          $wrap(before, after);
        });
        text = [...all.slice(0, from), before, ...all.slice(from, to), after, ...all.slice(to)].join('');
        expect(within(editor, $text), `round ${round}: ${before} from ${from} to ${to}`).toBe(text);
      }
      const again = editorOf();
      within(again, () => $fill(text, []));
      expect(within(again, $text)).toBe(text);
    }
  });

  it('takes marks at its end where nothing was selected', () => {
    const editor = editorOf();
    within(editor, () => $fill('due ${record.due}', []));
    within(editor, () => {
      $setSelection(null);
      $wrap('**', '**');
    });
    expect(within(editor, $text)).toBe('due ${record.due}****');
  });
});
