import { $getNodeByKey, type LexicalEditor } from 'lexical';
import type { FieldItem } from '../../../api/client';
import { chipLabel } from '../../../parts/template';
import { $chip, $isChip } from './ChipNode';

/** Gives a chip another formula. */
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
      made = next.getKey();
    },
    { discrete: true },
  );
  return made;
}
