import type { TrailMark } from '../../api/client';
import { fullOf } from '../../parts/times';
import { routeInk, routeMark, type Row } from './model';

const SHOWN = 200;
const STEP = 6;
const HEIGHT = 26;

interface Props {
  marks: TrailMark[];
  chosen: number;
  choose: (seq: number) => void;
  rows: Row[];
}

const rowIndex = (m: TrailMark, rows: Row[]) => {
  const first = (m.row ?? '').split(', ')[0];
  const i = rows.findIndex((r, n) => (r.name || `Row ${n + 1}`) === first);
  return i >= 0 ? i : rows.length;
};

/** The last arrivals as small marks, drawn by what the sheet as it stands makes of each. */
export function Trail({ marks, chosen, choose, rows }: Props) {
  const shown = marks.slice(-SHOWN);
  const count = (verdict: string) => marks.filter((m) => m.verdict === verdict).length;
  const routes = [...rows.map((r, i) => r.name || `Row ${i + 1}`), 'otherwise'];
  const taken = routes.map(
    (_, i) => marks.filter((m) => m.verdict === 'told' && rowIndex(m, rows) === i).length,
  );
  return (
    <section className="trail" aria-label="Trail: the last arrivals, by what this sheet makes of each">
      <svg
        width="100%"
        height={HEIGHT}
        viewBox={`0 0 ${SHOWN * STEP} ${HEIGHT}`}
        preserveAspectRatio="xMaxYMid meet"
      >
        {shown.map((m, i) => (
          <Mark
            key={`${m.seq}-${m.tick}-${m.at}`}
            mark={m}
            x={(SHOWN - shown.length + i) * STEP}
            row={rowIndex(m, rows)}
            chosen={m.seq === chosen && m.seq > 0}
            choose={choose}
          />
        ))}
        <line x1={0} x2={SHOWN * STEP} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} className="trail-rule" />
      </svg>
      <p className="trail-legend">
        <span className="muted">
          Last {marks.length} {marks.some((m) => m.tick) ? 'arrivals and ticks' : 'arrivals'}:
        </span>
        {routes.map((name, i) =>
          taken[i] ? (
            <span key={name + i}>
              <i className={`key ${routeInk(i)}`}>{i < rows.length ? routeMark(i) : '…'}</i> {name}{' '}
              <b>{taken[i]}</b>
            </span>
          ) : null,
        )}
        {(['unrouted', 'failed', 'dropped', 'ignored'] as const).map((v) =>
          count(v) ? (
            <span key={v}>
              <i className={`key key-${v}`} /> {v} <b>{count(v)}</b>
            </span>
          ) : null,
        )}
      </p>
    </section>
  );
}

interface MarkProps {
  mark: TrailMark;
  x: number;
  row: number;
  chosen: boolean;
  choose: (seq: number) => void;
}

function Mark({ mark, x, row, chosen, choose }: MarkProps) {
  const base = HEIGHT - 3;
  const shape = () => {
    switch (mark.verdict) {
      case 'told':
        return (
          <rect
            x={x + 1}
            y={base - 18 + Math.min(row, 3) * 3}
            width={4}
            height={18 - Math.min(row, 3) * 3}
            className={routeInk(row)}
          />
        );
      case 'failed':
        return <path d={`M${x} ${base - 6}l5 6m0 -6l-5 6`} className="mark-failed" />;
      case 'unrouted':
        return <circle cx={x + 3} cy={base - 4} r={2} className="mark-unrouted" />;
      case 'dropped':
        return <rect x={x + 1} y={base - 6} width={4} height={6} className="mark-dropped" />;
    }
    return <rect x={x + 2} y={base - 2} width={2} height={2} className="mark-ignored" />;
  };
  return (
    <g
      onClick={() => choose(mark.seq)}
      className={chosen ? 'mark chosen' : 'mark'}
      data-verdict={mark.verdict}
      data-row={mark.row}
    >
      <title>{`${mark.tick ? `${mark.tick} ` : ''}${mark.key}, ${fullOf(mark.at)}: ${mark.verdict}${mark.row ? ` (${mark.row})` : ''}`}</title>
      <rect x={x} y={0} width={STEP} height={HEIGHT} className="mark-ground" />
      {shape()}
      {chosen && <path d={`M${x + 0.5} 0h5l-2.5 4z`} className="mark-pointer" />}
    </g>
  );
}
