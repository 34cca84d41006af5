import { useLexicalComposerContext } from '@lexical/react/LexicalComposerContext';
import { Button, Input } from 'antd';
import { useRef } from 'react';
import { emptyOf, fieldOf, formatsOf, withEmpty } from '../../../parts/template';
import { useSurroundings } from '../surroundings';
import { setFormula } from './formulas';

interface Props {
  chipKey: string;
  formula: string;
  change: (formula: string) => void;
  close: () => void;
}

/** How a chip is shown: a format that suits its field, a text for when it is empty, or any formula. */
export function ChipFormat({ chipKey, formula, change, close }: Props) {
  const [editor] = useLexicalComposerContext();
  const { chips: fields } = useSurroundings();
  const key = useRef(chipKey);
  const { inner, text } = emptyOf(formula);
  const field = fieldOf(formula, fields);
  const set = (next: string) => {
    key.current = setFormula(editor, key.current, next, fields) ?? key.current;
    change(next);
  };
  return (
    <div className="chipformat" role="group" aria-label={`How ${field?.label ?? 'the formula'} is shown`}>
      {field &&
        formatsOf(field, fields).map((f) => (
          <Button
            key={f.formula}
            size="small"
            type={inner.trim() === f.formula ? 'primary' : 'default'}
            onClick={() => set(withEmpty(f.formula, text))}
          >
            {f.words}
          </Button>
        ))}
      <label>
        when empty{' '}
        <Input
          size="small"
          className="chip-empty"
          value={text}
          placeholder="nothing"
          onChange={(e) => set(withEmpty(inner, e.target.value))}
        />
      </label>
      <label>
        formula{' '}
        <Input
          size="small"
          className="chip-formula"
          value={formula}
          spellCheck={false}
          onChange={(e) => set(e.target.value)}
        />
      </label>
      <Button size="small" type="text" aria-label="Done with the chip" onClick={close}>
        ×
      </Button>
    </div>
  );
}
