import './compose.css';
import { LexicalComposer } from '@lexical/react/LexicalComposer';
import { useLexicalComposerContext } from '@lexical/react/LexicalComposerContext';
import { ContentEditable } from '@lexical/react/LexicalContentEditable';
import { LexicalErrorBoundary } from '@lexical/react/LexicalErrorBoundary';
import { PlainTextPlugin } from '@lexical/react/LexicalPlainTextPlugin';
import {
  $getRoot,
  COMMAND_PRIORITY_HIGH,
  INSERT_LINE_BREAK_COMMAND,
  INSERT_PARAGRAPH_COMMAND,
  KEY_DOWN_COMMAND,
  KEY_ENTER_COMMAND,
  TextNode,
  type LexicalEditor,
} from 'lexical';
import { memo, useEffect, useRef, useState } from 'react';
import type { FieldItem } from '../../../api/client';
import { useSurroundings } from '../surroundings';
import { ChipFormat } from './ChipFormat';
import { $isChip, ChipNode } from './ChipNode';
import { $fill, $format, $leaves, $text, $toChips, $unread } from './content';
import { Handle } from './Handle';
import { LinkForm } from './LinkForm';
import type { ChipInputProps } from './props';
import { BOLD, ITALIC } from './markup';
import { $isPiece, PieceNode } from './PieceNode';

/** A text whose formulas are chips. What is typed as ${ … } becomes one. */
export const ChipInput = memo(function ChipInput({
  id,
  label,
  value,
  change,
  lines = false,
  readOnly,
  marks = false,
  words = false,
  handle,
}: ChipInputProps) {
  const { chips: fields } = useSurroundings();
  const [chosen, setChosen] = useState<Chosen>();
  return (
    // eslint-disable-next-line @typescript-eslint/no-deprecated -- what takes its place cannot be told from outside that it is read-only
    <LexicalComposer
      initialConfig={{
        namespace: id,
        nodes: [ChipNode, PieceNode],
        editable: !readOnly,
        editorState: () => $fill(value, fields, marks),
        onError: (e) => {
          throw e;
        },
      }}
    >
      <div className="chipinput">
        <PlainTextPlugin
          contentEditable={
            <ContentEditable
              id={id}
              className={lines ? 'chip-text chip-lines' : 'chip-text'}
              aria-label={label}
              aria-multiline={lines}
              spellCheck={false}
            />
          }
          ErrorBoundary={LexicalErrorBoundary}
        />
        <Sync
          value={value}
          change={change}
          lines={lines}
          marks={marks}
          fields={fields}
          choose={setChosen}
          readOnly={readOnly}
        />
        {handle && <Handle handle={handle} fields={fields} words={words} made={setChosen} />}
        {chosen?.formula !== undefined && !readOnly && (
          <ChipFormat
            key={chosen.key}
            formula={chosen.formula}
            change={(formula) => setChosen({ key: chosen.key, formula })}
            close={() => setChosen(undefined)}
            chipKey={chosen.key}
          />
        )}
        {chosen?.link !== undefined && !readOnly && (
          <LinkForm
            Input={ChipInput}
            key={chosen.key}
            id={id}
            linkKey={chosen.key}
            source={chosen.link}
            close={() => setChosen(undefined)}
          />
        )}
      </div>
    </LexicalComposer>
  );
});

/** The chip or the link that was pressed. */
interface Chosen {
  key: string;
  formula?: string;
  link?: string;
}

interface SyncProps {
  value: string;
  change: (next: string) => void;
  lines: boolean;
  marks: boolean;
  fields: FieldItem[];
  choose: (chosen: Chosen | undefined) => void;
  readOnly: boolean;
}

function Sync({ value, change, lines, marks, fields, choose, readOnly }: SyncProps) {
  const [editor] = useLexicalComposerContext();
  const said = useRef(value);
  const tell = useRef(change);
  const known = useRef(fields);
  useEffect(() => {
    tell.current = change;
    known.current = fields;
  });
  useEffect(() => editor.setEditable(!readOnly), [editor, readOnly]);
  // A value from elsewhere, such as a mend or an undone edit, replaces what is shown.
  useEffect(() => {
    if (value === said.current) return;
    said.current = value;
    editor.update(() => $fill(value, known.current, marks), { tag: 'outside' });
  }, [editor, value, marks]);
  // Marks that were typed are shown as what they mean once one has gone on.
  useEffect(() => {
    if (!marks) return;
    const left = (e: FocusEvent) => {
      // What is set beside the text, such as how a chip is shown, belongs to it.
      const to = e.relatedTarget as HTMLElement | null;
      if (to?.closest('.chipinput')?.contains(e.target as Node) || !editor.read($unread)) return;
      const text = editor.read($text);
      editor.update(() => $fill(text, known.current, true), { tag: 'outside' });
    };
    return editor.registerRootListener((root, before) => {
      before?.removeEventListener('blur', left);
      root?.addEventListener('blur', left);
    });
  }, [editor, marks]);
  // Ctrl+B and Ctrl+I.
  useEffect(
    () =>
      editor.registerCommand(
        KEY_DOWN_COMMAND,
        (e) => {
          const format = { b: BOLD, i: ITALIC }[e.key.toLowerCase()];
          if (!marks || !format || !(e.ctrlKey || e.metaKey) || e.altKey) return false;
          e.preventDefault();
          editor.update(() => $format(format));
          return true;
        },
        COMMAND_PRIORITY_HIGH,
      ),
    [editor, marks],
  );
  useEffect(
    () =>
      editor.registerUpdateListener(({ editorState, tags }) => {
        if (tags.has('outside')) return;
        const next = editorState.read($text);
        if (next === said.current) return;
        said.current = next;
        tell.current(next);
      }),
    [editor],
  );
  useEffect(() => editor.registerNodeTransform(TextNode, (node) => $toChips(node, known.current)), [editor]);
  useEffect(() => {
    if (lines) return;
    const stop = () => true;
    const offs = [
      editor.registerCommand(KEY_ENTER_COMMAND, (e) => (e?.preventDefault(), true), COMMAND_PRIORITY_HIGH),
      editor.registerCommand(INSERT_LINE_BREAK_COMMAND, stop, COMMAND_PRIORITY_HIGH),
      editor.registerCommand(INSERT_PARAGRAPH_COMMAND, stop, COMMAND_PRIORITY_HIGH),
    ];
    return () => offs.forEach((off) => off());
  }, [editor, lines]);
  useEffect(() => onChip(editor, choose), [editor, choose]);
  return null;
}

/** Tells of a press on a chip or a link. */
function onChip(editor: LexicalEditor, choose: SyncProps['choose']) {
  const pressed = (e: MouseEvent) => {
    const dom = (e.target as HTMLElement).closest<HTMLElement>('.chip, .linkpiece');
    if (!dom) {
      choose(undefined);
      return;
    }
    editor.read(() => {
      for (const node of $leaves($getRoot())) {
        if (editor.getElementByKey(node.getKey()) !== dom) continue;
        const key = node.getKey();
        if ($isChip(node)) choose({ key, formula: node.getFormula() });
        else if ($isPiece(node)) choose({ key, link: node.getSource() });
      }
    });
  };
  return editor.registerRootListener((root, before) => {
    before?.removeEventListener('click', pressed);
    root?.addEventListener('click', pressed);
  });
}
