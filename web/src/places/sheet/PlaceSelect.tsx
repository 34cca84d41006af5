import { Select } from 'antd';
import { useState } from 'react';
import { isWritten, overOf, type Reach, type ReachGroup } from './reach';

interface Props {
  label: string;
  className: string;
  /** Where it goes. Of an address that is written, only its connection is named here: the address stands beside it. */
  to: string;
  groups: ReachGroup[];
  disabled?: boolean;
  /** Stands in the place of what is not among the lists. */
  placeholder?: string;
  change: (to: string) => void;
}

const looks: Record<string, RegExp> = {
  mail: /^\S+@\S+\.\S+$/,
  number: /^\+?[\d ()/-]{6,}$/,
  room: /^\S+@\S+$/,
};

/** What an address that was typed can be, over each of the connections that take such. */
export function typedPlaces(text: string, groups: ReachGroup[]): Reach[] {
  const typed = text.trim();
  return groups
    .flatMap((g) => g.options)
    .filter((o) => o.form && looks[o.form]?.test(typed))
    .map((o) => ({ value: o.value + typed, label: `${o.label.split(': ')[0]}: ${typed}` }));
}

/** Where something goes, chosen from lists. An address that is typed instead is offered, and kept when one goes on without choosing it. */
export function PlaceSelect({ label, className, to, groups, disabled, placeholder, change }: Props) {
  const [text, setText] = useState('');
  const typed = typedPlaces(text, groups);
  const options = groups.map((g) => ({ label: g.title, title: g.title, options: g.options }));
  if (typed.length > 0) options.unshift({ label: 'As typed', title: 'As typed', options: typed });
  const written = isWritten(to, groups);
  const shown = written ? overOf(to) : to;
  const known = groups.some((g) => g.options.some((o) => o.value === shown));
  if (!known && !placeholder)
    options.push({ label: '', title: '', options: [{ value: shown, label: shown || 'choose…' }] });
  return (
    <Select
      className={className}
      aria-label={label}
      disabled={disabled}
      showSearch={{ optionFilterProp: 'label', onSearch: setText }}
      popupMatchSelectWidth={false}
      placeholder={placeholder}
      value={known || !placeholder || groups.length === 0 ? shown || undefined : undefined}
      labelRender={({ label: l }) => (written ? String(l).split(': ')[0] : l)}
      options={options}
      onChange={(next: string) => {
        setText('');
        change(next);
      }}
      onBlur={() => {
        setText('');
        if (typed[0]) change(typed[0].value);
      }}
    />
  );
}
