import { Select } from 'antd';
import { useState } from 'react';
import { grouped, meant, type Name } from './names';
import { useSurroundings } from './surroundings';

interface Props {
  /** Puts a formula where it belongs. */
  insert?: (formula: string) => void;
  pick?: (name: Name) => void;
  label?: string;
  /** What can be called here alone, such as the records of a list. */
  more?: Name[];
  aria?: string;
}

const none: Name[] = [];

/** Picks anything that a text may say, by its label, its path or the value it has, and puts it there. */
export function FieldPicker({ insert, pick, label = '+ field', more = none, aria }: Props) {
  const { all: known, valueOf } = useSurroundings();
  // Within a list "it" is each of it, and nothing that is around the list.
  const all = more.length > 0 ? known.filter((n) => !/\bit\b/.test(n.path)) : known;
  const [open, setOpen] = useState(false);
  // What the names stand for is looked up when it is asked for: it changes with every proof.
  const names = open ? [...more, ...all] : none;
  const values = new Map(names.map((n) => [n.path, valueOf(n.path)]));
  const choose = (path: string) => {
    const name = [...more, ...all].find((n) => n.path === path); // the list may have closed already
    if (!name) return;
    if (pick) {
      pick(name);
      return;
    }
    insert?.(path);
  };
  return (
    <Select
      className="field-picker"
      variant="borderless"
      aria-label={aria ?? (label === '+ fact' ? 'Add a fact from a field' : 'Insert a field')}
      value={null}
      placeholder={label}
      popupMatchSelectWidth={false}
      onOpenChange={setOpen}
      showSearch={{
        filterOption: (q, o) => {
          const name = names.find((n) => n.path === (o as { value?: string } | undefined)?.value);
          return name !== undefined && meant(name, values.get(name.path) ?? '', q);
        },
      }}
      options={grouped(names).map(([group, list]) => ({
        label: group,
        options: list.map((n) => ({ value: n.path, label: n.label, title: n.label })),
      }))}
      optionRender={(o) => <NameOption label={o.label} value={values.get(String(o.value)) ?? ''} />}
      onChange={(v: string | null) => v && choose(v)}
    />
  );
}

/** A name with the value that it has in what the proof is about. */
export function NameOption({ label, value }: { label: React.ReactNode; value: string }) {
  return (
    <span className="offered">
      {label}
      <span className="muted small name-value">{value}</span>
    </span>
  );
}
