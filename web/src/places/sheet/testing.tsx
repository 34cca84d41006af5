import { useState, type ReactNode } from 'react';
import type { FieldItem, Op } from '../../api/client';
import { served } from '../../testing';
import { formulaNames, testNames, type GatheredName } from './names';
import { mendedAt, putAt, type Sheet } from './model';
import { Findings, noSurroundings, Surroundings } from './surroundings';

// For tests alone: a sheet's part at work, with its surroundings and a server that knows a few sources.

const field = (name: string, label: string, type: string, more: Partial<FieldItem> = {}): FieldItem => ({
  name,
  label,
  type,
  corrected: false,
  counts: null,
  empty: 0,
  examples: null,
  hidden: false,
  ...more,
});

export const fields: FieldItem[] = [
  field('id', 'Collection', 'text'),
  field('status', 'Status', 'choice', { options: ['planned', 'late'] }),
  field('litres', 'Litres', 'number'),
  field('due', 'Due', 'moment'),
  field('cooled', 'Cooled', 'yes/no'),
];

const op = (name: string, words: string, takes: string, fits: string): Op => ({ name, words, takes, fits });

export const operators: Op[] = [
  op('is', 'is', 'value', 'any'),
  op('one_of', 'is one of', 'list', 'any'),
  op('contains', 'contains', 'value', 'text-list'),
  op('at_least', 'is at least', 'value', 'order'),
  op('between', 'is between', 'pair', 'order'),
  op('within_last', 'is within the last', 'span', 'time'),
  op('weekday', 'is on', 'days', 'time'),
  op('empty', 'is empty', 'bool', 'any'),
];

/** The server that the editor asks for what it offers. */
export const practice = () =>
  served(({ path }) => {
    const items =
      path === '/api/sources'
        ? [
            { source: 'tours/collections', key_field: 'id', title: 'Collections' },
            { source: 'tours/farms', key_field: 'number', title: 'Farms' },
          ]
        : path === '/api/destinations'
          ? [
              { name: 'square/#tours', title: '#tours' },
              { name: 'square/#board', title: '#board', private: true, shut: 'not let in' },
            ]
          : path === '/api/workflows'
            ? [
                { id: 1, name: 'Late', form: '' },
                { id: 2, name: 'Called one', form: 'called' },
              ]
            : path.endsWith('/fields')
              ? fields
              : [];
    return path === '/api/schedule'
      ? { body: { words: 'every Tuesday at 07:00', zone: 'UTC', next: ['2026-12-01T07:00:00Z'] } }
      : path === '/api/words'
        ? { body: { zone: 'Europe/Zurich', operators } }
        : { body: { items } };
  });

interface Part {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
}

/** A part of a sheet that is edited, and what the sheet is now. */
export function editor(
  first: Partial<Sheet>,
  part: (p: Part) => ReactNode,
  around: {
    readOnly?: boolean;
    problems?: Parameters<typeof Findings.Provider>[0]['value']['problems'];
    fields?: FieldItem[];
    gathered?: GatheredName[];
  } = {},
) {
  const known = around.fields ?? fields;
  const now: { sheet: Sheet } = {
    sheet: {
      dorfbote: 1,
      name: 'Late',
      watch: { source: 'tours/collections' },
      messages: { alert: { title: 'x' } },
      route: {},
      ...first,
    },
  };
  function Editor() {
    const [sheet, setSheet] = useState(now.sheet);
    now.sheet = sheet;
    return (
      <Surroundings.Provider
        value={{
          ...noSurroundings,
          fields: known,
          gathered: around.gathered ?? [],
          operators,
          chips: known,
          tests: testNames(known),
          all: formulaNames(known, [], []),
          messages: Object.keys(sheet.messages ?? {}),
          readOnly: around.readOnly ?? false,
          valueOf: (path) => (path === 'record.status' ? 'late' : ''),
          put: (path, value) => setSheet((s) => putAt(s, path, value)),
          mend: (path, value, found) => setSheet((s) => mendedAt(s, found, path, value) ?? s),
        }}
      >
        <Findings.Provider
          value={{
            problems: around.problems ?? [],
            counts: { keep: { yes: 3, of: 10 } },
            seen: { status: [{ value: 'late', count: 7 }] },
          }}
        >
          {part({ sheet, change: (next) => setSheet((s) => ({ ...s, ...next })) })}
        </Findings.Provider>
      </Surroundings.Provider>
    );
  }
  return { now, page: <Editor /> };
}
