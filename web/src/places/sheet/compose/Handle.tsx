import './compose.css';
import { useLexicalComposerContext } from '@lexical/react/LexicalComposerContext';
import { $createTextNode, $getRoot, $getSelection, $isRangeSelection } from 'lexical';
import { useImperativeHandle, type Ref } from 'react';
import type { FieldItem } from '../../../api/client';
import { chipLabel } from '../../../parts/template';
import { $chip } from './ChipNode';
import { $bullets, $format, $link, $touches } from './content';
import { BOLD, ITALIC } from './markup';

export type Mark = 'bold' | 'italic' | 'link' | 'list';

/** What others may do to a text with chips. */
export interface ChipHandle {
  /** Puts a formula where the cursor is, or at the end; in words with a space before it where none is. */
  insert: (formula: string) => void;
  /** Sets what is selected so, or takes that off. */
  mark: (mark: Mark) => void;
}

interface Props {
  handle: Ref<ChipHandle>;
  /** The text is words, and no address. */
  words: boolean;
  fields: FieldItem[];
  /** Tells of a link that was made and goes nowhere yet. */
  made: (link: { key: string; link: string }) => void;
}

export function Handle({ handle, fields, words, made }: Props) {
  const [editor] = useLexicalComposerContext();
  useImperativeHandle(
    handle,
    () => ({
      insert: (formula) =>
        editor.update(() => {
          const at = $getSelection() ?? $getRoot().selectEnd();
          if ($isRangeSelection(at)) {
            const chip = $chip(formula, chipLabel(formula, fields));
            at.insertNodes(words && $touches(at) ? [$createTextNode(' '), chip] : [chip]);
          }
          editor.focus();
        }),
      mark: (mark) => {
        let link: ReturnType<typeof $link> | undefined;
        editor.update(
          () => {
            if (mark === 'link') link = $link(fields);
            else if (mark === 'list') $bullets();
            else $format(mark === 'bold' ? BOLD : ITALIC);
          },
          { discrete: true },
        );
        if (link) made(link);
        else editor.focus();
      },
    }),
    [editor, fields, words, made],
  );
  return null;
}
