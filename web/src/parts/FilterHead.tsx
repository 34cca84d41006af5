import { Input, Select } from 'antd';
import type { ReactNode } from 'react';
import { useSearchParams } from 'react-router';

/** What a list is narrowed to, which stands in the address: it can be sent to others, and the way back leads to it. */
export function useFilters() {
  const [params, setParams] = useSearchParams();
  return {
    get: (name: string) => params.get(name) || undefined,
    /** Narrows the list to a value, or no longer; others are taken off with it. */
    set: (name: string, value: string | undefined, ...off: string[]) => {
      const next = new URLSearchParams(params);
      for (const o of off) next.delete(o);
      if (value) next.set(name, value);
      else next.delete(name);
      setParams(next, { replace: true });
    },
  };
}

/** The head of a list: what it is called, and what it is narrowed by. */
export function FilterHead({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="place-head">
      <h1>{title}</h1>
      {children}
    </div>
  );
}

interface Filter<T extends string> {
  label: string;
  value: T | undefined;
  set: (value: T | undefined) => void;
}

/** One of some values; without one, every one. */
export function ChoiceFilter<T extends string>({
  label,
  every,
  value,
  values,
  set,
  wide = false,
}: Filter<T> & { every: string; values: readonly T[]; wide?: boolean }) {
  return (
    <Select<T>
      aria-label={label}
      allowClear
      className={wide ? 'wide-select' : 'op-select'}
      placeholder={every}
      value={value}
      options={values.map((v) => ({ value: v, label: v }))}
      onChange={(v?: T) => set(v)}
    />
  );
}

/** A text that is looked for. */
export function TextFilter({ label, hint = label, value, set }: Filter<string> & { hint?: string }) {
  return (
    <Input.Search
      aria-label={label}
      className="wide-select"
      allowClear
      placeholder={hint}
      defaultValue={value}
      onSearch={(v) => set(v || undefined)}
    />
  );
}
