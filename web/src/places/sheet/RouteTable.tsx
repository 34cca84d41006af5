import { Button, Input, Popover } from 'antd';
import { useState } from 'react';
import type { ProofLines, TrailMark } from '../../api/client';
import {
  channelOf,
  groupOf,
  isFormula,
  opOf,
  partsOf,
  routeInk,
  routeMark,
  startValue,
  type Cond,
  type Row,
} from './model';
import { ProblemsAt } from './ProblemsAt';
import { useSurroundings } from './surroundings';
import { TestEditor } from './TestEditor';

interface Props {
  rows: Row[];
  proof: ProofLines | undefined;
  trail: TrailMark[];
}

/** The tests of a row that stand in cells: those of a lone test, or of a group of which all have to hold. */
export const testsOf = (when: Cond | undefined): Cond[] =>
  !when || Object.keys(when).length === 0 ? [] : groupOf(when) === 'all' ? partsOf(when) : [when];

const field = (c: Cond) => (groupOf(c) || isFormula(c) ? '' : String(c.field ?? ''));

/** The condition of a row with a cell changed; undefined empties the cell. */
export function withCell(when: Cond | undefined, name: string, test: Cond | undefined): Cond {
  const tests = testsOf(when);
  const at = tests.findIndex((t) => field(t) === name);
  const next =
    at < 0
      ? [...tests, ...(test ? [test] : [])]
      : tests.flatMap((t, i) => (i === at ? (test ? [test] : []) : [t]));
  return next.length === 1 && !groupOf(next[0]!) ? next[0]! : { all: next };
}

/** The route table as a table: a row for each route, a column for each field, and in the cells what is asked. */
export function RouteTable({ rows, proof, trail }: Props) {
  const { fields, put, readOnly } = useSurroundings();
  const columns = [...new Set(rows.flatMap((r) => testsOf(r.when).map(field)).filter(Boolean))];
  const rest = rows.some((r) => testsOf(r.when).some((t) => !field(t)));
  const label = (name: string) => fields.find((f) => f.name === name)?.label ?? name;
  const set = (i: number, name: string, test: Cond | undefined) =>
    put(`route.rows[${i}].when`, withCell(rows[i]!.when, name, test));
  return (
    <div className="routetable-around">
      <table className="ledger routetable">
        <thead>
          <tr>
            <th>Route</th>
            {columns.map((c) => (
              <th key={c}>{label(c)}</th>
            ))}
            {rest && <th>And</th>}
            <th>Tells</th>
            <th>Trail</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r, i) => {
            const name = r.name || `Row ${i + 1}`;
            const taken = trail.filter(
              (m) => m.verdict === 'told' && (m.row ?? '').split(', ').includes(name),
            ).length;
            return (
              <tr key={i} className={proof?.rows?.[i]?.taken ? 'taken' : ''}>
                <th scope="row">
                  <i className={`key ${routeInk(i)}`}>{routeMark(i)}</i>{' '}
                  <Input
                    variant="borderless"
                    className="row-name"
                    aria-label={`Name of row ${i + 1}`}
                    value={r.name ?? ''}
                    placeholder={name}
                    readOnly={readOnly}
                    onChange={(e) => put(`route.rows[${i}].name`, e.target.value)}
                  />
                </th>
                {columns.map((c) => (
                  <Cell
                    key={c}
                    test={testsOf(r.when).find((t) => field(t) === c)}
                    name={c}
                    where={`${name}, ${label(c)}`}
                    set={(test) => set(i, c, test)}
                  />
                ))}
                {rest && (
                  <td className="muted">
                    {testsOf(r.when)
                      .filter((t) => !field(t))
                      .map((t) => (isFormula(t) ? String(t.formula) : 'a group'))
                      .join(', ')}
                  </td>
                )}
                <td>{(r.tell ?? []).map((t) => channelOf(t.to)).join(', ')}</td>
                <td>{taken}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {rows.map((_, i) => (
        <ProblemsAt key={i} path={`route.rows[${i}]`} />
      ))}
    </div>
  );
}

interface CellProps {
  test: Cond | undefined;
  name: string;
  where: string;
  set: (test: Cond | undefined) => void;
}

function Cell({ test, name, where, set }: CellProps) {
  const { operators, readOnly, fields } = useSurroundings();
  const [open, setOpen] = useState(false);
  const op = test ? opOf(test) : '';
  const words = operators.find((o) => o.name === op)?.words ?? op;
  const value = test?.[op];
  const said = test
    ? `${words.replace(/^is (?=\w)/, '')} ${Array.isArray(value) ? value.join(', ') : String(value)}`
    : 'any';
  if (readOnly) return <td className={test ? '' : 'muted'}>{said}</td>;
  const begin = () => {
    const counts = ['number', 'money'].includes(fields.find((f) => f.name === name)?.type ?? '');
    if (!test) set({ field: name, [counts ? 'at_least' : 'is']: startValue('value', counts ? 0 : '') });
    setOpen(true);
  };
  return (
    <td>
      <Popover
        open={open}
        trigger="click"
        onOpenChange={(next) => (next ? begin() : setOpen(false))}
        content={
          test ? (
            <div className="inline">
              <TestEditor cond={test} path={where} change={set} />
              <Button
                size="small"
                onClick={() => {
                  setOpen(false);
                  set(undefined);
                }}
              >
                Any
              </Button>
            </div>
          ) : (
            'Anything'
          )
        }
      >
        <Button
          type="text"
          size="small"
          className={test ? 'cell' : 'cell muted'}
          aria-label={`${where}: ${said}`}
        >
          {said}
        </Button>
      </Popover>
    </td>
  );
}
