import type { MouseEvent } from 'react';
import type { TrailMark } from '../../api/client';
import { routeInk, type Row } from './model';
import { rowIndex } from './TrailMark';

const WIDTH = 1000;
const HEIGHT = 8;

interface Props {
  marks: TrailMark[];
  rows: Row[];
  from: number;
  to: number;
  step: (at: number) => void;
}

/** The whole trail at a glance: where something was told, and which part of it the strip below shows. */
export function TrailWhole({ marks, rows, from, to, step }: Props) {
  if (marks.length <= to - from) return null;
  const each = WIDTH / marks.length;
  const paths = new Map<string, string>();
  marks.forEach((m, i) => {
    const told = ['told', 'released', 'digest'].includes(m.verdict);
    const ink = told ? routeInk(rowIndex(m, rows)) : m.verdict === 'failed' ? 'whole-failed' : '';
    if (!ink) return;
    const x = (i * each).toFixed(1);
    paths.set(
      ink,
      `${paths.get(ink) ?? ''}M${x} 1h${Math.max(each, 1).toFixed(1)}v${HEIGHT - 2}h-${Math.max(each, 1).toFixed(1)}z`,
    );
  });
  const pick = (e: MouseEvent<SVGSVGElement>) => {
    const box = e.currentTarget.getBoundingClientRect();
    step(Math.floor(((e.clientX - box.left) / box.width) * marks.length));
  };
  return (
    <svg
      className="trail-whole"
      width="100%"
      height={HEIGHT}
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      preserveAspectRatio="none"
      aria-hidden="true"
      onClick={pick}
    >
      <rect x={from * each} y={0} width={(to - from) * each} height={HEIGHT} className="whole-shown" />
      {[...paths].map(([ink, d]) => (
        <path key={ink} d={d} className={ink} />
      ))}
    </svg>
  );
}
