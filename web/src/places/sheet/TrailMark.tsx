import { memo } from 'react';
import type { TrailMark } from '../../api/client';
import { fullOf } from '../../parts/times';
import { routeInk, type Row } from './model';

export const MARK_STEP = 6;
export const MARK_HEIGHT = 26;

/** Which row a mark went to; the number of rows for otherwise. */
export const rowIndex = (m: TrailMark, rows: Row[]) => {
  const first = (m.row ?? '').split(', ')[0];
  const i = rows.findIndex((r, n) => (r.name || `Row ${n + 1}`) === first);
  return i >= 0 ? i : rows.length;
};

interface MarkProps {
  mark: TrailMark;
  x: number;
  row: number;
  chosen: boolean;
  choose: (seq: number) => void;
}

/** One arrival of the trail: its shape and ink say what becomes of it. */
export const Mark = memo(function Mark({ mark, x, row, chosen, choose }: MarkProps) {
  return (
    <g
      onClick={() => choose(mark.seq)}
      className={chosen ? 'mark chosen' : 'mark'}
      data-verdict={mark.verdict}
      data-row={mark.row}
      data-was={mark.was}
    >
      <title>{`${mark.tick ? `${mark.tick} ` : ''}${mark.key}, ${fullOf(mark.at)}: ${mark.verdict}${mark.row ? ` (${mark.row})` : ''}${mark.was ? `; by the version that is on: ${mark.was}` : ''}`}</title>
      <rect x={x} y={0} width={MARK_STEP} height={MARK_HEIGHT} className="mark-ground" />
      <Shape verdict={mark.verdict} x={x} row={row} />
      {mark.was && <path d={`M${x + 1} 4h4`} className="mark-differs" />}
      {chosen && <path d={`M${x + 0.5} 0h5l-2.5 4z`} className="mark-pointer" />}
    </g>
  );
});

function Shape({ verdict, x, row }: { verdict: string; x: number; row: number }) {
  const base = MARK_HEIGHT - 3;
  const low = Math.min(row, 3) * 3;
  switch (verdict) {
    case 'told':
      return <rect x={x + 1} y={base - 18 + low} width={4} height={18 - low} className={routeInk(row)} />;
    case 'released':
      return <path d={`M${x + 1} ${base}v-12l2 -3l2 3v12z`} className={routeInk(row)} />;
    case 'digest':
      return <path d={`M${x + 1} ${base}h4m-4 -4h4m-4 -4h4m-4 -4h4`} className="mark-digest" />;
    case 'repeated':
      return <path d={`M${x + 3} ${base}v-9m-2 0h4`} className="mark-repeated" />;
    case 'held':
      return <rect x={x + 1.5} y={base - 9} width={3} height={9} className="mark-held" />;
    case 'failed':
      return <path d={`M${x} ${base - 6}l5 6m0 -6l-5 6`} className="mark-failed" />;
    case 'unrouted':
      return <circle cx={x + 3} cy={base - 4} r={2} className="mark-unrouted" />;
    case 'dropped':
      return <rect x={x + 1} y={base - 6} width={4} height={6} className="mark-dropped" />;
  }
  return <rect x={x + 2} y={base - 2} width={2} height={2} className="mark-ignored" />;
}
