import { createContext, useContext } from 'react';
import type { GatheredName, Name } from './names';
import type { FieldItem, Op, Problem, Proof } from '../../api/client';

/** What every line of a sheet needs to know of its surroundings. It seldom changes. */
interface SheetSurroundings {
  fields: FieldItem[];
  operators: Op[];
  readOnly: boolean;
  /** The fields, and those inside objects by their paths: what chips are called by. */
  chips: FieldItem[];
  /** What is gathered, by name. */
  names: string[];
  /** What a formula or a text may call. */
  all: Name[];
  /** What a condition may look at. */
  tests: Name[];
  gathered: GatheredName[];
  /** The names of the messages. */
  messages: string[];
  /** What a name stands for in what the proof is about, as it is now. */
  valueOf: (path: string) => string;
  /** The field that names a record of the source. */
  keyField: string;
  /** Puts a value at a place on the sheet. */
  put: (path: string, value: unknown) => void;
  /** Mends a problem at a place on the sheet that was found on another, which may be an earlier one. */
  mend: (path: string, value: unknown, found: unknown) => void;
}

/** Where nothing is known of a sheet's surroundings. */
export const noSurroundings: SheetSurroundings = {
  fields: [],
  operators: [],
  readOnly: false,
  chips: [],
  names: [],
  all: [],
  tests: [],
  gathered: [],
  messages: [],
  valueOf: () => '',
  keyField: 'id',
  put: () => undefined,
  mend: () => undefined,
};

export const Surroundings = createContext<SheetSurroundings>(noSurroundings);

export const useSurroundings = () => useContext(Surroundings);

/** What the last proof found out. */
interface Found {
  problems: Problem[];
  /** The sheet that it was found on. */
  of?: unknown;
  /** By the path of a condition: how many of the trail it lets through, of those that get as far. */
  counts: Proof['counts'];
  /** By a field's name: the values it had in the trail. */
  seen: Proof['seen'];
}

export const Findings = createContext<Found>({ problems: [], counts: {}, seen: {} });

/** What a trial is sent of; undefined while there is nothing to try. */
export const Trial = createContext<
  { id: number; sheet: unknown; arrival?: number; record?: string } | undefined
>(undefined);

export const useFound = () => useContext(Findings);

/** The problems of one place on the sheet and, unless exact, of everything inside it. */
export const problemsAt = (problems: Problem[], path: string, exact = false) =>
  problems.filter(
    (p) => p.path === path || (!exact && (p.path.startsWith(path + '.') || p.path.startsWith(path + '['))),
  );

/** Whether the operator can be used on a field of the type. The same rule stands in cond.Op.FitsType. */
export function fits(op: Op, type: string): boolean {
  const text = ['text', 'choice', 'person', 'link'].includes(type);
  const time = ['date', 'moment'].includes(type);
  const number = ['number', 'money'].includes(type);
  const list = ['list', 'choices'].includes(type);
  if (type === '') return true;
  switch (op.fits) {
    case 'text':
      return text;
    case 'text-list':
      return text || list;
    case 'order':
      return number || time || type === 'span';
    case 'time':
      return time;
    case 'list':
      return list;
    case 'number':
      return number;
  }
  return true;
}
