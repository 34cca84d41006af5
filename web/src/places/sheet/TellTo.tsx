import { Select } from 'antd';
import { useRef } from 'react';
import { useLatest } from '../../parts/useLatest';
import { ChipInput } from './compose/ChipInput';
import type { ChipHandle } from './compose/Handle';
import { FieldPicker } from './FieldPicker';
import type { Name } from './names';
import { isWritten, overOf, useReach } from './reach';
import { useSurroundings } from './surroundings';

interface Props {
  to: string;
  label: string;
  id: string;
  /** What can be called here alone: the fields of an element of a list. */
  more?: Name[];
  change: (to: string) => void;
}

/** Where a tell goes: chosen from lists, or an address that is written or that the record gives. */
export function TellTo({ to, label, id, more, change }: Props) {
  const { readOnly } = useSurroundings();
  const groups = useReach();
  const written = isWritten(to, groups);
  const over = overOf(to);
  const chip = useRef<ChipHandle>(null);
  const setPlace = useLatest((place: string) => change(over + place));
  const options = groups.map((g) => ({ label: g.title, title: g.title, options: g.options }));
  const shown = written ? over : to;
  const known = groups.some((g) => g.options.some((o) => o.value === shown));
  return (
    <span className="tellto">
      <Select
        className="channel-select"
        aria-label={label}
        disabled={readOnly}
        showSearch={{ optionFilterProp: 'label' }}
        popupMatchSelectWidth={false}
        value={shown}
        labelRender={({ label: l }) => (written ? String(l).split(': ')[0] : l)}
        options={
          known
            ? options
            : [...options, { label: '', title: '', options: [{ value: shown, label: shown || 'choose…' }] }]
        }
        onChange={change}
      />
      {written && (
        <>
          <ChipInput
            key={over}
            id={id}
            label={`${label}: the address`}
            value={to.slice(over.length)}
            readOnly={readOnly}
            change={setPlace}
            handle={chip}
          />
          {!readOnly && (
            <FieldPicker
              aria={`Insert a field into the address of ${label}`}
              label="+"
              more={more}
              insert={(f) => chip.current?.insert(f)}
            />
          )}
        </>
      )}
    </span>
  );
}
