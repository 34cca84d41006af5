import { Button, Input } from 'antd';
import type { ClipboardEvent } from 'react';
import { AddName } from '../../parts/AddName';
import { RemoveButton } from '../../parts/RemoveButton';
import { dropped, exchanged, type Tables } from './model';
import { useSurroundings } from './surroundings';

type Row = Record<string, unknown>;

/** The columns of a table, the one by which its rows are found first. */
export const columnsOf = (rows: Row[]): string[] => [
  ...new Set(['from', ...rows.flatMap((r) => Object.keys(r))]),
];

/** A table with two columns, under a name that is free. */
export function withTable(tables: Tables | undefined): Tables {
  let name = 'rooms';
  for (let n = 2; tables?.[name]; n++) name = `rooms${n}`;
  return { ...tables, [name]: [{ from: '', to: '' }] };
}

const textOf = (v: unknown) => (v === null || v === undefined ? '' : String(v));

/** What was copied of a spreadsheet: cells with tabs between, rows with line ends. */
const cellsOf = (text: string) =>
  text
    .replace(/\r/g, '')
    .replace(/\n$/, '')
    .split('\n')
    .map((line) => line.split('\t'));

/** The rows with copied cells put in from a row and a column on; there are as many rows as that takes. */
export function pasted(rows: Row[], columns: string[], at: number, column: number, text: string): Row[] {
  const out = [...rows];
  cellsOf(text).forEach((cells, i) => {
    const into = cells.slice(0, columns.length - column).map((c, j) => [columns[column + j]!, c] as const);
    out[at + i] = { ...(out[at + i] ?? { from: '' }), ...Object.fromEntries(into) };
  });
  return out;
}

interface Props {
  name: string;
  rows: Row[];
  taken: string[];
  change: (rows: Row[]) => void;
  rename: (to: string) => void;
  remove: () => void;
}

/** A small table that the sheet carries, such as from which room to which others. */
export function TablePart({ name, rows, taken, change, rename, remove }: Props) {
  const { readOnly } = useSurroundings();
  const columns = columnsOf(rows);
  const put = (i: number, column: string, v: string) =>
    change(exchanged(rows, i, { ...rows[i], [column]: v }));
  const paste = (i: number, j: number) => (e: ClipboardEvent) => {
    const text = e.clipboardData.getData('text/plain');
    if (readOnly || !/[\t\n]./.test(text)) return;
    e.preventDefault();
    change(pasted(rows, columns, i, j, text));
  };
  return (
    <div className="sheettable">
      <div className="inline">
        <span>table</span>
        <Input
          key={name}
          size="small"
          className="gather-name"
          aria-label={`Name of the table ${name}`}
          defaultValue={name}
          readOnly={readOnly}
          onBlur={(e) => {
            const to = e.target.value.replace(/[^A-Za-z0-9_]/g, '');
            if (to && to !== name && !taken.includes(to)) rename(to);
            else e.target.value = name;
          }}
        />
        <span className="muted small">
          {name}[record.room].{columns[1] ?? 'to'} is of the first row whose from is that room; rows(
          {name}, record.room) are all of them
        </span>
        {!readOnly && <RemoveButton label={`Remove the table ${name}`} remove={remove} />}
      </div>
      <table className="ledger">
        <thead>
          <tr>
            {columns.map((c) => (
              <th key={c} scope="col">
                {c}
                {!readOnly && c !== 'from' && (
                  <RemoveButton
                    label={`Remove the column ${c} of ${name}`}
                    remove={() =>
                      change(rows.map((r) => Object.fromEntries(Object.entries(r).filter(([k]) => k !== c))))
                    }
                  />
                )}
              </th>
            ))}
            <td />
          </tr>
        </thead>
        <tbody>
          {rows.map((r, i) => (
            <tr key={i}>
              {columns.map((c, j) => (
                <td key={c}>
                  <Input
                    size="small"
                    variant="borderless"
                    aria-label={`${c} in row ${i + 1} of ${name}`}
                    value={textOf(r[c])}
                    readOnly={readOnly || (typeof r[c] === 'object' && r[c] !== null)}
                    onPaste={paste(i, j)}
                    onChange={(e) => put(i, c, e.target.value)}
                  />
                </td>
              ))}
              <td>
                {!readOnly && (
                  <RemoveButton
                    label={`Remove row ${i + 1} of ${name}`}
                    remove={() => change(dropped(rows, i))}
                  />
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {!readOnly && (
        <div className="inline">
          <Button type="link" size="small" onClick={() => change([...rows, { from: '' }])}>
            + row
          </Button>
          <AddName
            label={`Add a column to ${name}`}
            placeholder="+ column, then Enter"
            add={(typed) => {
              const column = typed.replace(/[^A-Za-z0-9_]/g, '');
              if (column && !columns.includes(column))
                change((rows.length ? rows : [{ from: '' }]).map((r) => ({ ...r, [column]: '' })));
            }}
          />
          <span className="muted small">
            Rows that are copied from a spreadsheet can be pasted into a cell.
          </span>
        </div>
      )}
    </div>
  );
}
