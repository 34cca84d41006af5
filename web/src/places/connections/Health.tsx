import { useState } from 'react';
import type { Schemas } from '../../api/client';
import { fullOf } from '../../parts/times';

const HOURS = 14 * 24;
const WIDTH = 2;

/** The last two weeks of calls, hour by hour: a green stroke for what worked, a red one that is taller for failures. */
export function Health({ hours }: { hours: Schemas['HealthHour'][] }) {
  const [now] = useState(Date.now);
  const ok = hours.reduce((n, h) => n + h.ok, 0);
  const failed = hours.reduce((n, h) => n + h.failed, 0);
  if (ok + failed === 0) return <span className="muted">No calls in the last two weeks.</span>;
  return (
    <span className="health">
      <svg
        width={HOURS * WIDTH}
        height={18}
        role="img"
        aria-label={`Two weeks: ${ok} calls worked, ${failed} failed`}
      >
        <line x1={0} x2={HOURS * WIDTH} y1={17.5} y2={17.5} className="trail-rule" />
        {hours.map((h) => {
          const x = (HOURS - 1 - Math.floor((now - new Date(h.hour).getTime()) / 3600_000)) * WIDTH;
          return x < 0 ? null : (
            <rect
              key={h.hour}
              x={x}
              y={h.failed ? 3 : 10}
              width={WIDTH}
              height={h.failed ? 14 : 7}
              className={h.failed ? 'health-bad' : 'health-good'}
            >
              <title>{`${fullOf(h.hour)}: ${h.ok} worked, ${h.failed} failed`}</title>
            </rect>
          );
        })}
      </svg>
      <span className="small muted">
        two weeks: {ok.toLocaleString('en')} {ok === 1 ? 'call' : 'calls'} worked
        {failed > 0 && <span className="bad">, {failed.toLocaleString('en')} failed</span>}
      </span>
    </span>
  );
}
