import { AutoComplete, Input, type InputRef } from 'antd';
import { useRef, useState } from 'react';
import { problemsAt, useSurroundings, useFound } from './surroundings';

/** What formulas may call, with how each is written; formats.md says what they do. */
const functions: [name: string, shape: string][] = [
  ['words', 'words(span)'],
  ['ago', 'ago(moment)'],
  ['date', 'date(moment, "d MMM yyyy")'],
  ['money', 'money(number, "EUR")'],
  ['number', 'number(number, 0)'],
  ['percent', 'percent(x)'],
  ['plural', 'plural(n, "farm", "farms")'],
  ['bullets', 'bullets(list, "${it.id}")'],
  ['link', 'link(text, address)'],
  ['or', 'or(value, fallback)'],
  ['shorten', 'shorten(text, 40)'],
  ['phone', 'phone(text, "CH")'],
  ['mask', 'mask(text)'],
  ['slug', 'slug(text)'],
  ['person', 'person(id)'],
  ['mention', 'mention(id)'],
  ['on_duty', 'on_duty("rota/events")'],
  ['rows', 'rows(table, key)'],
  ['group', 'group(list, "field")'],
  ['when_became', 'when_became("status", "done")'],
  ['len', 'len(list)'],
  ['now', 'now'],
  ['changed', 'changed'],
];

interface Props {
  label: string;
  value: string;
  change: (next: string) => void;
  /** Its place on the sheet, where its problems are. */
  path: string;
  className?: string;
}

/** A formula, completed as one types: fields by their names and labels, what was gathered, and functions. */
export function FormulaInput({ label, value, change, path, className = 'formula' }: Props) {
  const { all, readOnly, names } = useSurroundings();
  const input = useRef<InputRef>(null);
  const [word, setWord] = useState('');
  const cursor = () => input.current?.input?.selectionStart ?? value.length;
  const wordAt = (text: string, at: number) => /[A-Za-z_][\w.]*$/.exec(text.slice(0, at))?.[0] ?? '';
  const offers = [
    ...all.map((n) => ({
      name: n.path,
      says: n.group === 'Before' ? n.label : `${n.label}, ${n.type || 'any'}`,
      find: n.group === 'Before' ? '' : n.label,
    })),
    ...names
      .filter((n) => !all.some((a) => a.path === n))
      .map((n) => ({ name: n, says: 'gathered', find: n })),
    ...functions.map(([name, shape]) => ({ name: shape, says: 'function', find: name })),
  ];
  const typed = word.toLowerCase();
  const fitting = typed
    ? offers
        .filter(
          (o) =>
            o.name !== word &&
            (o.name.toLowerCase().startsWith(typed) || o.find.toLowerCase().startsWith(typed)),
        )
        .slice(0, 12)
    : [];
  const take = (name: string) => {
    const at = cursor();
    const from = at - wordAt(value, at).length;
    change(value.slice(0, from) + name + value.slice(at));
    setWord('');
    const end = from + name.length;
    window.requestAnimationFrame(() => input.current?.input?.setSelectionRange(end, end));
  };
  const wrong = problemsAt(useFound().problems, path).find((p) => p.offset !== undefined);
  return (
    <span className="formula-around">
      <AutoComplete
        className={`formula-complete ${className}`}
        value={value}
        disabled={readOnly}
        open={fitting.length > 0}
        defaultActiveFirstOption={false}
        popupMatchSelectWidth={360}
        options={fitting.map((o) => ({
          value: o.name,
          label: (
            <span className="offered">
              <code>{o.name}</code>
              <span className="muted small">{o.says}</span>
            </span>
          ),
        }))}
        onSelect={take}
        onBlur={() => setWord('')}
      >
        <Input
          ref={input}
          className={className}
          aria-label={label}
          spellCheck={false}
          onChange={(e) => {
            change(e.target.value);
            setWord(wordAt(e.target.value, e.target.selectionStart ?? e.target.value.length));
          }}
        />
      </AutoComplete>
      {wrong && <Underline text={value} at={wrong.offset!} />}
    </span>
  );
}

/** Draws a line under the word at which a formula goes wrong. */
function Underline({ text, at }: { text: string; at: number }) {
  const word = /^(?:[\w.]+|\S|$)/.exec([...text].slice(at).join(''))?.[0] || ' ';
  return (
    <span className="formula-under" aria-hidden="true">
      {[...text].slice(0, at).join('')}
      <u>{word}</u>
    </span>
  );
}
