import { $getNodeByKey, $setSelection, SKIP_DOM_SELECTION_TAG, type LexicalEditor } from 'lexical';
import type { FieldItem } from '../../../api/client';
import { chipLabel } from '../../../parts/template';
import { $chip, $isChip } from './ChipNode';

/** Gives a chip another formula. Where the cursor is stays as it is: whoever types the formula goes on typing there. */
export function setFormula(
  editor: LexicalEditor,
  key: string,
  formula: string,
  fields: FieldItem[],
): string | undefined {
  let made: string | undefined;
  editor.update(
    () => {
      const node = $getNodeByKey(key);
      if (!$isChip(node)) return;
      const next = $chip(formula, chipLabel(formula, fields)).setFormat(node.getFormat());
      node.replace(next);
      $setSelection(null);
      made = next.getKey();
    },
    { discrete: true, tag: SKIP_DOM_SELECTION_TAG },
  );
  return made;
}
