import { useLexicalComposerContext } from '@lexical/react/LexicalComposerContext';
import { Button } from 'antd';
import { $getNodeByKey, type LexicalEditor } from 'lexical';
import { useRef, useState, type ComponentType } from 'react';
import { useLatest } from '../../../parts/useLatest';
import { FieldPicker } from '../FieldPicker';
import type { ChipHandle } from './Handle';
import type { ChipInputProps } from './props';
import { $linkNode } from './content';
import { linkParts, linkSource } from './markup';
import { $isPiece } from './PieceNode';
import { useSurroundings } from '../surroundings';

interface Props {
  /** A text with chips, which knows this form. */
  Input: ComponentType<ChipInputProps>;
  id: string;
  linkKey: string;
  source: string;
  close: () => void;
}

/** A link's text and where it goes. */
export function LinkForm({ Input, id, linkKey, source, close }: Props) {
  const [editor] = useLexicalComposerContext();
  const { chips: fields } = useSurroundings();
  const key = useRef(linkKey);
  const [parts, setParts] = useState(linkParts(source));
  const text = useRef<ChipHandle>(null);
  const to = useRef<ChipHandle>(null);
  const put = (next: typeof parts) => {
    setParts(next);
    key.current = setLink(editor, key.current, linkSource(next), fields) ?? key.current;
  };
  const setText = useLatest((text: string) => put({ ...parts, text }));
  const setTo = useLatest((to: string) => put({ ...parts, to }));
  return (
    <div className="chipformat linkform" role="group" aria-label="The link">
      <div className="with-picker">
        <span className="muted">says</span>
        <Input
          id={`${id}-link-text`}
          label="Text of the link"
          words
          value={parts.text}
          readOnly={false}
          change={setText}
          handle={text}
        />
        <FieldPicker insert={(f) => text.current?.insert(f)} />
      </div>
      <div className="with-picker">
        <span className="muted">goes to</span>
        <Input
          id={`${id}-link-to`}
          label="Where the link goes"
          value={parts.to === 'https://' ? '' : parts.to}
          readOnly={false}
          change={setTo}
          handle={to}
        />
        <FieldPicker insert={(f) => to.current?.insert(f)} />
      </div>
      <Button
        size="small"
        type="text"
        onClick={() => {
          removeLink(editor, key.current);
          close();
        }}
      >
        No link
      </Button>
      <Button size="small" type="text" aria-label="Done with the link" onClick={close}>
        ×
      </Button>
    </div>
  );
}

/** Gives a link other parts. */
function setLink(
  editor: LexicalEditor,
  key: string,
  source: string,
  fields: Parameters<typeof $linkNode>[1],
): string | undefined {
  let made: string | undefined;
  editor.update(
    () => {
      const node = $getNodeByKey(key);
      if (!$isPiece(node)) return;
      const next = $linkNode(source, fields).setFormat(node.getFormat());
      node.replace(next);
      made = next.getKey();
    },
    { discrete: true },
  );
  return made;
}

/** Leaves a link's text without the link. */
function removeLink(editor: LexicalEditor, key: string) {
  editor.update(() => $getNodeByKey(key)?.remove(), { discrete: true });
}
