import { useLexicalComposerContext } from '@lexical/react/LexicalComposerContext';
import { $getRoot, $getSelection, $isRangeSelection } from 'lexical';
import { useImperativeHandle, type Ref } from 'react';
import type { FieldItem } from '../../../api/client';
import { chipLabel } from '../../../parts/template';
import { $chip } from './ChipNode';
import { $wrap } from './content';

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
          $wrap(before, after);
          editor.focus();
        }),
    }),
    [editor, fields],
  );
  return null;
}
