import { useLexicalComposerContext } from '@lexical/react/LexicalComposerContext';
import { Button, Input } from 'antd';
import { useRef, useState } from 'react';
import { emptyOf, fieldOf, formatsOf, withEmpty } from '../../../parts/template';
import { FormulaInput } from '../FormulaInput';
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
  // What is being typed: an empty formula is none, so the chip stays as it was until there is another.
  const [typed, setTyped] = useState(formula);
  const { inner, text } = emptyOf(formula);
  const field = fieldOf(formula, fields);
  const set = (next: string) => {
    setTyped(next);
    if (next.trim() === '') return;
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
      <span>
        formula{' '}
        <FormulaInput
          label="Formula of the chip"
          className="chip-formula"
          value={typed}
          change={set}
          path=""
        />
      </span>
      <Button size="small" type="text" aria-label="Done with the chip" onClick={close}>
        ×
      </Button>
    </div>
  );
}
