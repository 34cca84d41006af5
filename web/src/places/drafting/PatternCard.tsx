import { AutoComplete, Button, Input, Select } from 'antd';
import { useState } from 'react';
import { api, answerOf, type Schemas } from '../../api/client';
import { useFields, useSources } from '../../api/queries';
import { SpanInput } from '../../parts/SpanInput';
import { PlaceSelect } from '../sheet/PlaceSelect';
import { isWritten, overOf, useReach } from '../sheet/reach';

type Pattern = Schemas['Pattern'];
type Blank = Schemas['Blank'];

interface Props {
  pattern: Pattern;
  make: (sheet: unknown) => Promise<void>;
}

/** A ready-made sheet; opened, it shows its blanks. */
export function PatternCard({ pattern: p, make }: Props) {
  const [open, setOpen] = useState(false);
  return (
    <li className="pattern">
      <Button type="link" className="pattern-title" aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? '▾' : '▸'} {p.title}
      </Button>
      <p className="muted small">{p.note}</p>
      {open && <Blanks pattern={p} make={make} />}
    </li>
  );
}

function Blanks({ pattern: p, make }: Props) {
  const sources = useSources();
  const blanks = p.blanks ?? [];
  const [values, setValues] = useState(() => Object.fromEntries(blanks.map((b) => [b.name, b.default])));
  const [error, setError] = useState('');
  const [busy, setBusy] = useState(false);
  const put = (b: Blank, v: string) => {
    const next = { ...values, [b.name]: v };
    // What belongs to another source or field has to be chosen anew; a field of the same name is the one that is meant.
    for (const o of blanks) if (o.of === b.name && o.kind !== 'field') next[o.name] = '';
    if (b.kind === 'source') for (const o of blanks) if (o.kind === 'value') next[o.name] = '';
    setValues(next);
  };
  const draft = async () => {
    setBusy(true);
    try {
      const filled = await answerOf(
        api.POST('/api/patterns/{name}', { params: { path: { name: p.name } }, body: { blanks: values } }),
      );
      await make(filled.sheet);
    } catch (e) {
      const details = (e as { details?: string[] }).details ?? [];
      setError([e instanceof Error ? e.message : '', ...details].join(' '));
    } finally {
      setBusy(false);
    }
  };
  const there = (sources.data?.items ?? []).map((s) => s.source);
  const known = blanks.every((b) => b.kind !== 'source' || there.includes(values[b.name] ?? ''));
  return (
    <div className="blanks">
      {blanks.map((b) => (
        <label key={b.name} className="blank">
          <span>{b.label}</span>
          <BlankInput blank={b} values={values} change={(v) => put(b, v)} />
        </label>
      ))}
      {error && (
        <p className="bad" role="alert">
          ✕ {error}
        </p>
      )}
      <Button type="primary" loading={busy} disabled={!known} onClick={() => void draft()}>
        Draft the sheet
      </Button>
    </div>
  );
}

interface BlankProps {
  blank: Blank;
  values: Record<string, string>;
  change: (v: string) => void;
}

function BlankInput({ blank: b, values, change }: BlankProps) {
  const sources = useSources();
  const fields = useFields(values.source ?? '').data?.items ?? [];
  const value = values[b.name] ?? '';
  const select = (options: { value: string; label: string }[]) => (
    <Select
      aria-label={b.label}
      className="wide-select"
      showSearch={{ optionFilterProp: 'label' }}
      popupMatchSelectWidth={false}
      placeholder="Choose"
      value={options.length === 0 || options.some((o) => o.value === value) ? value || undefined : undefined}
      options={options}
      onChange={change}
    />
  );
  switch (b.kind) {
    case 'source':
      return select((sources.data?.items ?? []).map((s) => ({ value: s.source, label: s.source })));
    case 'channel':
      return <PlaceBlank label={b.label} value={value} change={change} />;
    case 'field':
      return select(
        fields
          .filter((f) => !f.hidden && (!b.types?.length || b.types.includes(f.type)))
          .map((f) => ({ value: f.name, label: f.label })),
      );
    case 'value': {
      const field = fields.find((f) => f.name === values[b.of ?? '']);
      const known = field?.options?.length ? field.options : (field?.examples ?? []);
      return (
        <AutoComplete
          aria-label={b.label}
          className="wide-select"
          value={value}
          options={known.map((v) => ({ value: v }))}
          onChange={(v: string) => change(v ?? '')}
        />
      );
    }
    case 'span':
      return <SpanInput label={b.label} value={value} change={change} />;
  }
  return <Input aria-label={b.label} value={value} onChange={(e) => change(e.target.value)} />;
}

/** Where something goes: chosen from lists, or an address that is written beside its connection. */
function PlaceBlank({ label, value, change }: { label: string; value: string; change: (v: string) => void }) {
  const groups = useReach();
  const over = overOf(value);
  const open = groups.some((g) => g.options.some((o) => o.value === over));
  return (
    <span className="inline">
      <PlaceSelect
        label={label}
        className="wide-select"
        placeholder="Choose"
        groups={groups}
        to={value}
        change={change}
      />
      {open && isWritten(value, groups) && (
        <Input
          aria-label={`${label}: the address`}
          value={value.slice(over.length)}
          onChange={(e) => change(over + e.target.value)}
        />
      )}
    </span>
  );
}
