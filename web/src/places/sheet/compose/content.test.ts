import {
  $createRangeSelection,
  $getRoot,
  $isTextNode,
  $setSelection,
  createEditor,
  type LexicalEditor,
} from 'lexical';
import { describe, expect, it } from 'vitest';
import { $isChip, ChipNode } from './ChipNode';
import { $bullets, $fill, $format, $leaves, $link, $text, $unread } from './content';
import { $isPiece, PieceNode } from './PieceNode';
import { $isWhole } from './WholeNode';

/** Numbers that seem random and are the same in every run. */
function seeded(seed: number) {
  return (below: number) => {
    seed = (Math.imul(seed, 1664525) + 1013904223) >>> 0;
    return Math.floor((seed / 2 ** 32) * below);
  };
}

const editorOf = (): LexicalEditor =>
  createEditor({
    nodes: [ChipNode, PieceNode],
    onError: (e) => {
      throw e;
    },
  });

function within<T>(editor: LexicalEditor, work: () => T): T {
  let made: T | undefined;
  editor.update(() => void (made = work()), { discrete: true });
  return made as T;
}

/** Sets the selection from one step of the text to another. Every step can be pointed at in several ways. */
function $select(from: number, to: number, pick: (below: number) => number) {
  const at = (step: number): [string, number, 'text' | 'element'] => {
    const block = $getRoot().getFirstChildOrThrow();
    const ways: [string, number, 'text' | 'element'][] = [];
    let passed = 0;
    $leaves(block).forEach((leaf, i) => {
      const whole = $isWhole(leaf);
      const size = $isTextNode(leaf) && !whole ? leaf.getTextContentSize() : 1;
      if (passed === step) ways.push([block.getKey(), i, 'element']);
      if (whole) {
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
  '*',
  '- ',
  '[Open](https://x.example/${record.id})',
  'ß',
  'late',
  '${now}',
];

/** What is shown, leaf by leaf, with how each step is set. */
const $shown = () =>
  $getRoot()
    .getChildren()
    .flatMap($leaves)
    .flatMap((n) => {
      const format = $isTextNode(n) ? n.getFormat() : 0;
      if ($isChip(n)) return [{ step: '{' + n.getFormula() + '}', format }];
      if ($isPiece(n)) return [{ step: n.getSource(), format }];
      if ($isTextNode(n))
        return n
          .getTextContent()
          .split('')
          .map((step) => ({ step, format }));
      return [{ step: '\n', format: 0 }];
    });

describe('the content of a text with chips', () => {
  it('is the text it was filled with, and what is selected is set, and nothing else', () => {
    const pick = seeded(20261126);
    for (let round = 0; round < 1500; round++) {
      const text = Array.from({ length: pick(8) }, () => parts[pick(parts.length)]).join('');
      const editor = editorOf();
      within(editor, () => $fill(text, [], true));
      expect(within(editor, $text)).toBe(text);
      for (let edit = 0; edit < 3; edit++) {
        const before = within(editor, $shown);
        const ends = [pick(before.length + 1), pick(before.length + 1)];
        const [from, to] = [Math.min(...ends), Math.max(...ends)];
        const format = pick(2) + 1;
        within(editor, () => {
          $select(ends[0]!, ends[1]!, pick);
          $format(format);
        });
        const settable = before.map(
          (s, i) =>
            i >= from && i < to && s.step !== '\n' && !(s.step.length === 2 && /^[-*+] $/.test(s.step)),
        );
        const all = before.every((s, i) => !settable[i] || s.format & format);
        expect(within(editor, $shown), `round ${round}: ${format} from ${from} to ${to} of ${text}`).toEqual(
          before.map((s, i) =>
            settable[i] ? { ...s, format: all ? s.format & ~format : s.format | format } : s,
          ),
        );
      }
      const written = within(editor, $text);
      const again = editorOf();
      within(again, () => $fill(written, [], true));
      expect(within(again, $text)).toBe(written);
    }
  });

  it('takes links and lists anywhere', () => {
    const pick = seeded(7);
    for (let round = 0; round < 1500; round++) {
      const text = Array.from({ length: pick(8) }, () => parts[pick(parts.length)]).join('');
      const editor = editorOf();
      within(editor, () => $fill(text, [], true));
      const n = within(editor, $shown).length;
      within(editor, () => {
        $select(pick(n + 1), pick(n + 1), pick);
        if (pick(2)) $link([]);
        else $bullets();
      });
      const written = within(editor, $text);
      const again = editorOf();
      within(again, () => $fill(written, [], true));
      expect(within(again, $text)).toBe(written);
    }
  });

  it('makes a link of what is selected', () => {
    const editor = editorOf();
    within(editor, () => $fill('Open ${record.id} now', [], true));
    within(editor, () => {
      $select(0, 6, () => 0);
      $link([]);
    });
    expect(within(editor, $text)).toBe('[Open ${record.id}](https://) now');
  });

  it('takes a bullet off again', () => {
    const editor = editorOf();
    within(editor, () => $fill('one\ntwo', [], true));
    const all = () => $select(0, $shown().length, () => 0);
    within(editor, () => {
      all();
      $bullets();
    });
    expect(within(editor, $text)).toBe('- one\n- two');
    within(editor, () => {
      all();
      $bullets();
    });
    expect(within(editor, $text)).toBe('one\ntwo');
  });

  it('shows no mark as it is written', () => {
    const editor = editorOf();
    within(editor, () => $fill('**${record.litres} litres** and *late*\n- [Open](${record.link})', [], true));
    const shown = within(editor, () => $getRoot().getTextContent());
    expect(shown).not.toContain('*');
    expect(shown).not.toContain('](');
  });

  it('knows marks that were typed and not read yet', () => {
    const unread = (text: string, marks: boolean) => {
      const editor = editorOf();
      within(editor, () => $fill(text, [], marks));
      return within(editor, $unread);
    };
    expect(unread('**${record.litres}** is [x](https://x.example)', false)).toBe(true);
    expect(unread('**${record.litres}** is [x](https://x.example)', true)).toBe(false);
    expect(unread('5 * 3 is **', false)).toBe(false);
    expect(unread('', true)).toBe(false);
  });

  it('leaves marks alone where they mean nothing, as in a title', () => {
    const editor = editorOf();
    within(editor, () => $fill('**${record.litres}**', []));
    expect(within(editor, () => $getRoot().getTextContent())).toContain('**');
    expect(within(editor, $text)).toBe('**${record.litres}**');
  });
});
