import { Select } from 'antd';
import type { FieldItem } from '../../api/client';
import { useAround } from './surroundings';

interface Props {
  /** The id of the input into which the field is put where its cursor stands. */
  target?: string;
  fallback?: (chip: string) => void;
  pick?: (field: FieldItem) => void;
  label?: string;
}

/** Picks a field by its label or by a value it has, and puts it into a text. */
export function FieldPicker({ target, fallback, pick, label = '+ field' }: Props) {
  const { fields } = useAround();
  const choose = (name: string) => {
    const field = fields.find((f) => f.name === name);
    if (!field) return;
    if (pick) return pick(field);
    const chip = '${record.' + name + '}';
    const input = target ? document.getElementById(target) : null;
    if (!(input instanceof HTMLInputElement || input instanceof HTMLTextAreaElement)) return fallback?.(chip);
    const at = input.selectionStart ?? input.value.length;
    input.focus();
    input.setRangeText(chip, at, input.selectionEnd ?? at, 'end');
    input.dispatchEvent(new Event('input', { bubbles: true }));
  };
  return (
    <Select
      className="field-picker"
      variant="borderless"
      aria-label={label === '+ fact' ? 'Add a fact from a field' : 'Insert a field'}
      value={null}
      placeholder={label}
      popupMatchSelectWidth={false}
      showSearch={{
        filterOption: (q, o) => String((o as { search?: string })?.search).includes(q.toLowerCase()),
      }}
      options={fields.map((f) => ({
        value: f.name,
        search: `${f.label} ${f.name} ${(f.examples ?? []).join(' ')}`.toLowerCase(),
        label: (
          <span>
            {f.label} <span className="muted small">{(f.examples ?? [])[0]}</span>
          </span>
        ),
      }))}
      onChange={(v: string | null) => v && choose(v)}
    />
  );
}
