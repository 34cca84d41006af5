import { Select } from 'antd';
import type { FieldItem } from '../../api/client';
import { useAround } from './surroundings';

interface Props {
  /** Puts a formula where it belongs. */
  insert?: (formula: string) => void;
  pick?: (field: FieldItem) => void;
  label?: string;
}

/** Picks a field by its label or by a value it has, and puts it into a text. */
export function FieldPicker({ insert, pick, label = '+ field' }: Props) {
  const { fields } = useAround();
  const choose = (name: string) => {
    const field = fields.find((f) => f.name === name);
    if (!field) return;
    if (pick) return pick(field);
    insert?.(`record.${name}`);
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
