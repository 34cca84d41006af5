import { AutoComplete, Select } from 'antd';
import { memo, useState, type ReactNode } from 'react';
import type { FieldItem, Op, Schemas } from '../../api/client';
import { NameOption } from './FieldPicker';
import { HOW_LONG, grouped, meant } from './names';
import { opOf, startValue, typedValue, type Cond } from './model';
import { fits, useSurroundings } from './surroundings';
import { placeWords } from './placeWords';

const days = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'];

interface Props {
  cond: Cond;
  path: string;
  change: (next: Cond) => void;
  /** The values that the field had lately. */
  seen?: Tally[] | null;
}

type Tally = Schemas['Tally'];
const none: Tally[] = [];

/** One test: a field, an operator that fits its type, and a value suggested from real ones. */
export const TestEditor = memo(function TestEditor({ cond, path, change, seen = none }: Props) {
  const { tests, operators, readOnly, valueOf } = useSurroundings();
  const [open, setOpen] = useState(false);
  const name = String(cond.field ?? '');
  const op = opOf(cond);
  const known = tests.find((n) => n.field === name);
  const field = known?.item;
  const options = grouped(open ? tests : known ? [known] : []).map(([group, list]) => ({
    label: group,
    options: list.map((n) => ({ value: n.field!, label: n.label, title: n.label, path: n.path })),
  }));
  if (!known)
    options.push({ label: 'Not known', options: [{ value: name, label: name, title: name, path: name }] });
  const type = known?.type ?? '';
  const offered = operators.filter((o) => fits(o, type) || o.name === op);
  const takes = operators.find((o) => o.name === op)?.takes ?? 'value';

  const pickOp = (next: string) => {
    const wants = operators.find((o) => o.name === next)?.takes ?? 'value';
    change({ field: name, [next]: wants === takes ? cond[op] : startValue(wants, cond[op]) });
  };
  const pickField = (next: string) => {
    const t = tests.find((n) => n.field === next)?.type ?? '';
    const keeps = operators.find((o) => o.name === op);
    if (keeps && fits(keeps, t)) change({ field: next, [op]: cond[op] });
    else change({ field: next, is: '' });
  };
  return (
    <>
      <Select
        className="field-select"
        aria-label={`Field of ${placeWords(path)}`}
        disabled={readOnly}
        showSearch={{
          filterOption: (q, o) => {
            const n = tests.find((t) => t.field === (o as { value?: string })?.value);
            return n !== undefined && meant(n, valueOf(n.path), q);
          },
        }}
        onOpenChange={setOpen}
        optionRender={(o) => (
          <NameOption label={o.label} value={valueOf((o.data as unknown as { path: string }).path)} />
        )}
        popupMatchSelectWidth={false}
        value={name}
        options={options}
        onChange={pickField}
      />
      <Select
        className="op-select"
        aria-label={`Operator of ${placeWords(path)}`}
        disabled={readOnly}
        popupMatchSelectWidth={false}
        value={op}
        options={offered.map((o) => ({ value: o.name, label: o.words }))}
        onChange={pickOp}
      />
      <Value
        value={cond[op]}
        takes={takes}
        field={field}
        type={type}
        tally={seen ?? none}
        path={path}
        readOnly={readOnly}
        change={(v) => change({ field: name, [op]: v })}
      />
    </>
  );
});

interface ValueProps {
  value: unknown;
  takes: Op['takes'];
  field: FieldItem | undefined;
  type: string;
  tally: Tally[];
  path: string;
  readOnly: boolean;
  change: (v: unknown) => void;
}

function Value({ value, takes, field, type, tally, path, readOnly, change }: ValueProps) {
  const label = `Value of ${placeWords(path)}`;
  switch (takes) {
    case 'bool':
      return (
        <Select
          className="bool-select"
          aria-label={label}
          disabled={readOnly}
          value={value === true}
          options={[
            { value: true, label: 'yes' },
            { value: false, label: 'no' },
          ]}
          onChange={change}
        />
      );
    case 'list':
    case 'days':
      return (
        <Select
          mode={takes === 'days' ? 'multiple' : 'tags'}
          className="list-select"
          aria-label={label}
          disabled={readOnly}
          value={Array.isArray(value) ? value.map(String) : []}
          options={
            takes === 'days' ? days.map((v): Offer => ({ value: v, label: v })) : suggestions(field, tally)
          }
          onChange={(list: string[]) => change(list.map((v) => typedValue(v, type)))}
        />
      );
    case 'pair': {
      const pair = Array.isArray(value) ? value : ['', ''];
      return (
        <>
          <One
            value={pair[0] as string}
            label={label + ', lowest'}
            type={type}
            readOnly={readOnly}
            change={(v) => change([v, pair[1]])}
          />
          <span className="muted">and</span>
          <One
            value={pair[1] as string}
            label={label + ', highest'}
            type={type}
            readOnly={readOnly}
            change={(v) => change([pair[0], v])}
          />
        </>
      );
    }
  }
  return (
    <One
      value={value}
      label={label}
      type={takes === 'value' ? type : 'text'}
      field={field}
      tally={takes === 'value' ? tally : []}
      readOnly={readOnly}
      change={change}
    />
  );
}

type Offer = { value: string; label: ReactNode };

/** Values to choose from: those the field may have and those it had, with how often it had them lately. */
function suggestions(field: FieldItem | undefined, tally: Tally[]): Offer[] {
  const counts = new Map(tally.map((t) => [t.value, t.count]));
  const known = field?.options?.length
    ? field.options
    : field?.type === 'yes/no'
      ? ['yes', 'no']
      : [...counts.keys(), ...(field?.examples ?? [])];
  return [...new Set(known)].map((value) => ({
    value,
    label: (
      <span className="offered">
        {value}
        {tally.length > 0 && <span className="muted small">{counts.get(value) ?? 0}×</span>}
      </span>
    ),
  }));
}

/** How many other names are offered as a value. */
const MOST_OFFERS = 40;

/** Whether values of two types can be compared. */
const alike = (a: string, b: string) => {
  const sort = (t: string) =>
    ['number', 'money'].includes(t)
      ? 'number'
      : ['date', 'moment'].includes(t)
        ? 'time'
        : ['list', 'choices', 'object', 'span', 'yes/no'].includes(t)
          ? t
          : 'text';
  return a === '' || b === '' || sort(a) === sort(b);
};

/** A value as it stands in its field. */
const asWords = (value: unknown): string => {
  if (typeof value === 'boolean') return value ? 'yes' : 'no';
  return value === undefined || value === null ? '' : String(value);
};

interface OneProps {
  value: unknown;
  label: string;
  type: string;
  field?: FieldItem;
  tally?: Tally[];
  readOnly: boolean;
  change: (v: unknown) => void;
}

function One({ value, label, type, field, tally = [], readOnly, change }: OneProps) {
  const { all, valueOf } = useSurroundings();
  const [open, setOpen] = useState(false);
  const text = asWords(value);
  const counted = ['number', 'money', 'span'].includes(type);
  const typed = text.toLowerCase();
  const values = counted ? [] : suggestions(field, tally);
  const narrowed = values.some((v) => v.value === text)
    ? values
    : values.filter((v) => v.value.toLowerCase().includes(typed));
  // What is compared with may be another field, or something gathered.
  const others = open
    ? all
        .filter(
          (n) =>
            n.group !== HOW_LONG &&
            alike(n.type, type) &&
            (n.field === undefined || n.path !== `record.${field?.name}`),
        )
        .map((n) => ({ n, value: '${' + n.path + '}', now: valueOf(n.path) }))
        .filter((o) => typed === '' || typed.startsWith('$') || meant(o.n, o.now, typed))
        .slice(0, MOST_OFFERS)
    : [];
  const options: (Offer | { label: ReactNode; options: Offer[] })[] = others.length
    ? [
        ...(narrowed.length ? [{ label: 'Values', options: narrowed }] : []),
        ...grouped(others.map((o) => o.n)).map(([group, list]) => ({
          label: group,
          options: list.map((n) => ({
            value: '${' + n.path + '}',
            label: <NameOption label={n.label} value={valueOf(n.path)} />,
          })),
        })),
      ]
    : narrowed;
  return (
    <AutoComplete
      className={counted ? 'number-value' : 'text-value'}
      aria-label={label}
      disabled={readOnly}
      value={text}
      options={options as Offer[]}
      popupMatchSelectWidth={false}
      onOpenChange={setOpen}
      onChange={(v: string) => change(typedValue(v ?? '', type))}
    />
  );
}
