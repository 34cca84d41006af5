import { useLexicalComposerContext } from '@lexical/react/LexicalComposerContext';
import { $createRangeSelection, $getRoot, $getSelection, $isRangeSelection, $setSelection } from 'lexical';
import { useImperativeHandle, type Ref } from 'react';
import type { FieldItem } from '../../../api/client';
import { chipLabel } from '../../../parts/template';
import { $chip } from './ChipNode';

/** What others may do to a text with chips. */
export interface ChipHandle {
  /** Puts a formula where the cursor is, or at the end. */
  insert: (formula: string) => void;
  /** Puts marks around what is selected. */
  wrap: (before: string, after: string) => void;
}

export function Handle({ handle, fields }: { handle: Ref<ChipHandle>; fields: FieldItem[] }) {
  const [editor] = useLexicalComposerContext();
  useImperativeHandle(
    handle,
    () => ({
      insert: (formula) =>
        editor.update(() => {
          const at = $getSelection() ?? $getRoot().selectEnd();
          if ($isRangeSelection(at)) at.insertNodes([$chip(formula, chipLabel(formula, fields))]);
          editor.focus();
        }),
      wrap: (before, after) =>
        editor.update(() => {
          const at = $getSelection() ?? $getRoot().selectEnd();
          if (!$isRangeSelection(at)) return;
          const [start, end] = at.isBackward() ? [at.focus, at.anchor] : [at.anchor, at.focus];
          const place = (p: typeof start) => {
            const one = $createRangeSelection();
            one.anchor.set(p.key, p.offset, p.type);
            one.focus.set(p.key, p.offset, p.type);
            return one;
          };
          const [first, last] = [place(start), place(end)];
          last.insertText(after);
          first.insertText(before);
          $setSelection(first);
          editor.focus();
        }),
    }),
    [editor, fields],
  );
  return null;
}
