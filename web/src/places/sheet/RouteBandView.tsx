import './sheet.css';
import { memo, useState, type KeyboardEvent } from 'react';
import { Button, Input, Segmented } from 'antd';
import type { ProofLines, Schemas, TrailMark } from '../../api/client';
import { useStarters } from '../../api/queries';
import { Band, BandLine } from '../../parts/Band';
import { ProblemsAt } from './ProblemsAt';
import { AddCondition, Condition } from './Condition';
import { RouteTable } from './RouteTable';
import { Tells } from './Tells';
import { TableCheck } from './TableCheck';
import {
  channelOf,
  groupOf,
  routeInk,
  routeMark,
  withTest,
  type Row,
  type RouteBand,
  type Sheet,
  type Tell,
  dropped,
} from './model';
import type { TellProof } from './reach';
import { useSurroundings } from './surroundings';
import { RemoveButton } from '../../parts/RemoveButton';

interface Props {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
  proof: ProofLines | undefined;
  trail: TrailMark[];
  table: Schemas['Analysis'] | undefined;
}

/** The route table: rows with their conditions and whom they tell, and what is for the rest. */
export const RouteBandView = memo(function RouteBandView({ sheet, change, proof, trail, table }: Props) {
  const { fields, readOnly, keyField } = useSurroundings();
  const { channel } = useStarters();
  const route: RouteBand = sheet.route ?? {};
  const rows = route.rows ?? [];
  const set = (next: Partial<RouteBand>) => change({ route: { ...route, ...next } });
  const setRow = (i: number, row: Row | undefined) =>
    set({ rows: row ? rows.map((r, j) => (j === i ? row : r)) : dropped(rows, i) });
  const move = (i: number, by: number) => {
    if (by === 0 || i + by < 0 || i + by >= rows.length) return;
    const next = [...rows];
    const [row] = next.splice(i, 1);
    next.splice(i + by, 0, row!);
    set({ rows: next });
  };
  const [dragged, setDragged] = useState(-1);
  const [asTable, setAsTable] = useState(false);
  const onKey = (i: number) => (e: KeyboardEvent) => {
    if (!e.altKey || (e.key !== 'ArrowUp' && e.key !== 'ArrowDown') || readOnly) return;
    e.preventDefault();
    move(i, e.key === 'ArrowUp' ? -1 : 1);
  };
  const firstMessage = Object.keys(sheet.messages ?? {})[0] ?? 'alert';
  const counted = fields.find((f) => f.name !== keyField && ['number', 'money'].includes(f.type));
  const number = counted?.name ?? fields[0]?.name ?? 'id';
  const newRow = (): Row => ({
    name: `Row ${rows.length + 1}`,
    when: counted ? { field: number, at_least: '' } : { field: number, is: '' },
    tell: [{ to: channel, message: firstMessage }],
  });
  const takenBy = (name: string) =>
    trail.length === 0
      ? undefined
      : trail.filter((m) => m.verdict === 'told' && (m.row ?? '').split(', ').includes(name)).length;

  return (
    <Band label="Route" hint="who hears of it">
      {asTable && rows.length > 0 && <RouteTable rows={rows} proof={proof} trail={trail} />}
      {!asTable &&
        rows.map((row, i) => {
          const name = row.name || `Row ${i + 1}`;
          return (
            <div
              key={i}
              className={dragged === i ? 'routerow dragged' : 'routerow'}
              onKeyDown={onKey(i)}
              onDragOver={(e) => dragged >= 0 && e.preventDefault()}
              onDrop={(e) => {
                e.preventDefault();
                if (dragged >= 0) move(dragged, i - dragged);
                setDragged(-1);
              }}
            >
              <BandLine
                ask={
                  <div className="inline">
                    <i
                      className={`key ${routeInk(i)}${readOnly ? '' : ' grip'}`}
                      title={readOnly ? undefined : 'Drag to move the row; Alt with ↑ or ↓ moves it too'}
                      draggable={!readOnly}
                      onDragStart={(e) => {
                        e.dataTransfer.setData('text/plain', name);
                        setDragged(i);
                      }}
                      onDragEnd={() => setDragged(-1)}
                    >
                      {routeMark(i)}
                    </i>
                    <Input
                      className="row-name"
                      aria-label={`Name of row ${i + 1}`}
                      value={row.name ?? ''}
                      readOnly={readOnly}
                      placeholder={`Row ${i + 1}`}
                      onChange={(e) => setRow(i, { ...row, name: e.target.value })}
                    />
                    <Tells tell={row.tell} path={`route.rows[${i}]`} where={name} />
                    {!readOnly && !groupOf(row.when ?? {}) && (
                      <AddCondition add={(test) => setRow(i, { ...row, when: withTest(row.when, test) })} />
                    )}
                    {!readOnly && (
                      <span className="row-tools">
                        <Button
                          type="text"
                          size="small"
                          disabled={i === 0}
                          aria-label={`Move ${name} up`}
                          onClick={() => move(i, -1)}
                        >
                          ↑
                        </Button>
                        <Button
                          type="text"
                          size="small"
                          disabled={i === rows.length - 1}
                          aria-label={`Move ${name} down`}
                          onClick={() => move(i, 1)}
                        >
                          ↓
                        </Button>
                        <RemoveButton label={`Remove ${name}`} remove={() => setRow(i, undefined)} />
                      </span>
                    )}
                    <ProblemsAt path={`route.rows[${i}]`} exact />
                    <ProblemsAt path={`route.rows[${i}].tell`} />
                  </div>
                }
                proof={
                  <RouteProof
                    taken={proof?.rows?.[i]?.taken}
                    count={takenBy(name)}
                    tells={proof?.rows?.[i]?.tell}
                    written={row.tell}
                  />
                }
              />
              <Condition
                cond={row.when ?? {}}
                path={`route.rows[${i}].when`}
                line={proof?.rows?.[i]?.line}
                change={(when) => setRow(i, { ...row, when: when ?? { field: number, is: '' } })}
                depth={1}
                lead="when"
              />
            </div>
          );
        })}
      <div className="routerow">
        <BandLine
          ask={
            <div className="inline">
              <i className={`key ${routeInk(rows.length)}`}>…</i>
              <span className="row-name row-otherwise">Otherwise</span>
              {route.otherwise ? (
                <>
                  <Tells tell={route.otherwise.tell} where="otherwise" path="route.otherwise" />
                  {!readOnly && rows.length > 0 && (
                    <Button
                      type="link"
                      size="small"
                      aria-label="Otherwise tell nobody"
                      onClick={() => set({ otherwise: undefined })}
                    >
                      nobody
                    </Button>
                  )}
                </>
              ) : (
                <>
                  <span className="muted">nobody is told</span>
                  {!readOnly && (
                    <Button
                      type="link"
                      size="small"
                      onClick={() => set({ otherwise: { tell: [{ to: channel, message: firstMessage }] } })}
                    >
                      + tell
                    </Button>
                  )}
                </>
              )}
              <ProblemsAt path="route.otherwise" />
              <ProblemsAt path="route" exact />
            </div>
          }
          proof={
            <RouteProof
              taken={proof?.otherwise}
              count={takenBy('otherwise')}
              tells={proof?.else}
              written={route.otherwise?.tell}
            />
          }
        />
      </div>
      <BandLine
        ask={
          <div className="inline">
            {rows.length > 0 && (
              <Segmented
                size="small"
                disabled={readOnly}
                aria-label="Which rows are taken"
                value={route.take ?? 'first'}
                options={[
                  { value: 'first', label: 'First row that holds' },
                  { value: 'every', label: 'Every row that holds' },
                ]}
                onChange={(take) => set({ take: take as 'first' | 'every' })}
              />
            )}
            {!readOnly && (
              <Button type="link" size="small" onClick={() => set({ rows: [...rows, newRow()] })}>
                + row
              </Button>
            )}
            {rows.length > 0 && (
              <Button type="link" size="small" aria-pressed={asTable} onClick={() => setAsTable(!asTable)}>
                {asTable ? 'as rows' : 'as a table'}
              </Button>
            )}
          </div>
        }
        proof={rows.length > 0 && table && <TableCheck table={table} rows={rows.length} />}
      />
    </Band>
  );
});

interface RouteProofProps {
  taken: boolean | undefined;
  count: number | undefined;
  tells: TellProof[] | null | undefined;
  written: Tell[] | undefined;
}

function RouteProof({ taken, count, tells, written }: RouteProofProps) {
  return (
    <>
      <RouteTaken taken={taken} count={count} />
      {(tells ?? []).map((t, i) => (
        <TellSeen key={t.path} tell={t} written={written?.[i]} />
      ))}
    </>
  );
}

/** Whom a tell would reach for the chosen record, where that is not plain from the sheet. */
function TellSeen({ tell, written }: { tell: TellProof; written: Tell | undefined }) {
  const plain = written && tell.to === written.to && !written.each;
  if (!written || (plain && !tell.who)) return null;
  if (tell.error) return <p className="bad small">✕ {tell.error}</p>;
  if (tell.left_out)
    return (
      <p className="muted small">– nobody: {written.each ? 'the list is empty' : 'the address is empty'}</p>
    );
  return (
    <p className="small tellseen">
      → {tell.to}
      {tell.who && <b> {tell.who}</b>}
      {tell.cc && <span className="muted"> copy {channelOf(tell.cc)}</span>}
      {tell.bcc && <span className="muted"> hidden copy {channelOf(tell.bcc)}</span>}
      {written.each && (
        <span className="muted">
          {' '}
          and {Math.max((tell.count ?? 0) - 1, 0)} more{tell.more ? `; ${tell.more} are over the most` : ''}
        </span>
      )}
    </p>
  );
}

function RouteTaken({ taken, count }: { taken: boolean | undefined; count: number | undefined }) {
  return (
    <span className="seen">
      {taken ? <span className="good">✓ goes here</span> : <span className="muted">–</span>}
      {count !== undefined && (
        <span className="muted">{count === 0 ? 'none of the trail' : `${count} of the trail`}</span>
      )}
    </span>
  );
}
