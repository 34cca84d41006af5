import { Segmented } from 'antd';
import { memo, useState, type KeyboardEvent } from 'react';
import type { TrailMark } from '../../api/client';
import { fullOf } from '../../parts/times';
import { routeInk, routeMark, type Row } from './model';
import { Mark, MARK_HEIGHT, MARK_STEP, rowIndex } from './TrailMark';
import { TrailWhole } from './TrailWhole';

const SHOWN = 200;

interface Props {
  marks: TrailMark[];
  chosen: number;
  choose: (seq: number) => void;
  rows: Row[];
  /** The version that is on, 0 for none. */
  version: number;
}

type Filter = 'all' | 'told' | 'dropped' | 'kept out' | 'differs';

const passes: Record<Filter, (m: TrailMark) => boolean> = {
  all: () => true,
  told: (m) => ['told', 'released', 'digest'].includes(m.verdict),
  dropped: (m) => m.verdict === 'dropped',
  'kept out': (m) => !['told', 'released', 'digest'].includes(m.verdict),
  differs: (m) => Boolean(m.was),
};

/** The last arrivals as small marks, drawn by what the sheet as it stands makes of each. */
export const Trail = memo(function Trail({ marks, chosen, choose, rows, version }: Props) {
  const [filter, setFilter] = useState<Filter>('all');
  const differing = marks.filter(passes.differs).length;
  const kept = marks.filter(passes[filter]);
  const at = kept.findIndex((m) => m.seq === chosen && m.seq > 0);
  // The strip shows the newest, or those around the chosen one.
  const end = at < 0 || at >= kept.length - SHOWN ? kept.length : Math.min(kept.length, at + SHOWN / 2);
  const shown = kept.slice(Math.max(0, end - SHOWN), end);
  const step = (to: number) => {
    const m = kept[Math.max(0, Math.min(kept.length - 1, to))];
    if (m) choose(m.seq);
  };
  const onKey = (e: KeyboardEvent) => {
    const from = at < 0 ? kept.length : at;
    const moves: Record<string, number> = {
      ArrowLeft: from - 1,
      ArrowRight: from + 1,
      PageUp: from - 20,
      PageDown: from + 20,
      Home: 0,
      End: kept.length - 1,
    };
    const to = moves[e.key];
    if (to === undefined) return;
    e.preventDefault();
    step(to);
  };
  const now = kept[at];
  return (
    <section className="trail" aria-label="Trail: the last arrivals, by what this sheet makes of each">
      <TrailWhole marks={kept} rows={rows} from={Math.max(0, end - SHOWN)} to={end} step={step} />
      <div
        className="trail-strip"
        role="slider"
        tabIndex={0}
        aria-label="Chosen arrival of the trail"
        aria-valuemin={1}
        aria-valuemax={Math.max(1, kept.length)}
        aria-valuenow={at + 1 || Math.max(1, kept.length)}
        aria-valuetext={now ? `${now.key}, ${fullOf(now.at)}: ${now.verdict} ${now.row}` : 'none of these'}
        onKeyDown={onKey}
      >
        <svg
          width="100%"
          height={MARK_HEIGHT}
          viewBox={`0 0 ${SHOWN * MARK_STEP} ${MARK_HEIGHT}`}
          preserveAspectRatio="xMaxYMid meet"
          aria-hidden="true"
        >
          {shown.map((m, i) => (
            <Mark
              key={`${m.seq}-${m.tick}-${m.at}-${m.later}`}
              mark={m}
              x={(SHOWN - shown.length + i) * MARK_STEP}
              row={rowIndex(m, rows)}
              chosen={m.seq === chosen && m.seq > 0}
              choose={choose}
            />
          ))}
          <line
            x1={0}
            x2={SHOWN * MARK_STEP}
            y1={MARK_HEIGHT - 0.5}
            y2={MARK_HEIGHT - 0.5}
            className="trail-rule"
          />
        </svg>
      </div>
      <div className="trail-legend">
        <Segmented
          size="small"
          aria-label="Which arrivals the trail shows"
          value={filter}
          options={[
            { value: 'all', label: 'All' },
            { value: 'told', label: 'Told' },
            { value: 'dropped', label: 'Dropped' },
            { value: 'kept out', label: 'Not told' },
            ...(version
              ? [{ value: 'differs', label: `Differs from version ${version}: ${differing}` }]
              : []),
          ]}
          onChange={(f) => setFilter(f as Filter)}
        />
        <Legend marks={marks} rows={rows} />
      </div>
    </section>
  );
});

const others = [
  'unrouted',
  'failed',
  'repeated',
  'held',
  'released',
  'digest',
  'dropped',
  'ignored',
] as const;

function Legend({ marks, rows }: Pick<Props, 'marks' | 'rows'>) {
  const routes = [...rows.map((r, i) => r.name || `Row ${i + 1}`), 'otherwise'];
  const taken = routes.map(
    (_, i) => marks.filter((m) => m.verdict === 'told' && rowIndex(m, rows) === i).length,
  );
  const count = (verdict: string) => marks.filter((m) => m.verdict === verdict).length;
  return (
    <>
      <span className="muted">
        {marks.length === 1 ? 'The last' : `The last ${marks.length}`}{' '}
        {marks.length === 1 ? 'arrival' : marks.some((m) => m.tick) ? 'arrivals and ticks' : 'arrivals'}:
      </span>
      {routes.map((name, i) =>
        taken[i] ? (
          <span key={`${name} ${i}`}>
            <i className={`key ${routeInk(i)}`}>{i < rows.length ? routeMark(i) : '…'}</i> {name}{' '}
            <b>{taken[i]}</b>
          </span>
        ) : null,
      )}
      {others.map((v) =>
        count(v) ? (
          <span key={v}>
            <i className={`key key-${v}`} /> {v} <b>{count(v)}</b>
          </span>
        ) : null,
      )}
    </>
  );
}
