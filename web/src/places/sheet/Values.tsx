import { dropped } from './model';
import { Button, Input, Select } from 'antd';
import { useRef } from 'react';
import { counted } from '../../parts/counted';
import { useLatest } from '../../parts/useLatest';
import { ChipInput } from './compose/ChipInput';
import type { ChipHandle } from './compose/Handle';
import { FieldPicker } from './FieldPicker';
import { useSurroundings } from './surroundings';
import { AddName } from '../../parts/AddName';
import { RemoveButton } from '../../parts/RemoveButton';

/** A text with formulas, and a picker for them. */
export function ChipLine({
  id,
  label,
  value,
  change,
}: {
  id: string;
  label: string;
  value: string;
  change: (v: string) => void;
}) {
  const { readOnly } = useSurroundings();
  const chip = useRef<ChipHandle>(null);
  const latest = useLatest(change);
  return (
    <span className="chipline">
      <ChipInput id={id} label={label} value={value} readOnly={readOnly} change={latest} handle={chip} />
      {!readOnly && (
        <FieldPicker label="+" aria={`Insert a field: ${label}`} insert={(f) => chip.current?.insert(f)} />
      )}
    </span>
  );
}

interface ValuesProps {
  values: Record<string, unknown>;
  of: string;
  names: { value: string; label: string }[];
  /** What a name would be where the record has a field of the same name. */
  same?: Record<string, string>;
  change: (next: Record<string, unknown>) => void;
}

/** Names with their values, one a line. A value is text in which formulas may stand. */
export function Values({ values, of, names, same = {}, change }: ValuesProps) {
  const { readOnly } = useSurroundings();
  const rows = Object.entries(values);
  const put = (i: number, name: string, value: unknown) =>
    change(Object.fromEntries(rows.map((r, n) => (n === i ? [name, value] : r))));
  const free = names.filter((n) => !(n.value in values));
  const alike = free.filter((n) => same[n.value]).map((n) => [n.value, same[n.value]] as const);
  return (
    <div className="follow-values">
      {rows.map(([name, value], i) => (
        <div className="inline" key={name}>
          <span className="follow-name">{names.find((n) => n.value === name)?.label ?? name}</span>
          <span>is</span>
          {typeof value === 'object' && value !== null ? (
            <Input
              className="formula"
              aria-label={`Value of ${name} in ${of}`}
              value={JSON.stringify(value)}
              readOnly
            />
          ) : (
            <ChipLine
              id={`${of}-${name}`}
              label={`Value of ${name} in ${of}`}
              value={String(value ?? '')}
              change={(v) => put(i, name, v)}
            />
          )}
          {!readOnly && (
            <RemoveButton
              label={`Leave ${name} out of ${of}`}
              remove={() => change(Object.fromEntries(dropped(rows, i)))}
            />
          )}
        </div>
      ))}
      {!readOnly && (
        <div className="inline">
          {names.length > 0 ? (
            <Select
              size="small"
              className="side-select"
              aria-label={`Add a field to ${of}`}
              value={null}
              showSearch
              placeholder="+ field"
              popupMatchSelectWidth={false}
              options={free}
              onChange={(name: string | null) => name && change({ ...values, [name]: '' })}
            />
          ) : (
            <AddName
              label={`Add a name to ${of}`}
              placeholder="+ name, then Enter"
              add={(name) => name in values || change({ ...values, [name]: '' })}
            />
          )}
          {alike.length > 1 && (
            <Button
              type="link"
              size="small"
              onClick={() => change({ ...values, ...Object.fromEntries(alike) })}
            >
              + {counted(alike.length, 'field')} of the same name
            </Button>
          )}
        </div>
      )}
    </div>
  );
}
