import { InputNumber, Select } from 'antd';
import { useSurroundings } from './surroundings';

/** A choice within a line of a sheet. What stands there and is none of the choices is shown all the same. */
export function Pick<T extends string | boolean>({
  label,
  value,
  options,
  change,
}: {
  label: string;
  value: T;
  options: { value: T; label: string }[];
  change: (v: T) => void;
}) {
  const { readOnly } = useSurroundings();
  const known = options.some((o) => o.value === value);
  return (
    <Select
      size="small"
      aria-label={label}
      disabled={readOnly}
      popupMatchSelectWidth={false}
      value={value}
      options={known ? options : [...options, { value, label: String(value) || 'choose…' }]}
      onChange={change}
    />
  );
}

/** How many at the most, within a line of a sheet; left empty, it is the usual number. */
export function Most({
  label,
  most,
  usual,
  value,
  change,
}: {
  label: string;
  most: number;
  usual: number;
  value: number | undefined;
  change: (v: number | undefined) => void;
}) {
  const { readOnly } = useSurroundings();
  return (
    <InputNumber
      size="small"
      className="every-value"
      aria-label={label}
      min={1}
      max={most}
      placeholder={String(usual)}
      value={value}
      disabled={readOnly}
      onChange={(v) => change(v ?? undefined)}
    />
  );
}
