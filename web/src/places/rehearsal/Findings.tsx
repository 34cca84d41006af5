import { Table } from 'antd';
import { Link } from 'react-router';
import type { Schemas } from '../../api/client';
import { counted } from '../../parts/counted';
import { clockOf, dayOf, fullOf } from '../../parts/times';

type Comparison = Schemas['Comparison'];
type Told = Schemas['Told'];
type Difference = Schemas['Difference'];

/** What a rehearsal found out. */
export function Findings({ sums, version }: { sums: Comparison; version: number }) {
  return (
    <>
      <p className="rehearsal-sum" data-testid="rehearsal-sum">
        <b>{sums.posts}</b> {sums.posts === 1 ? 'post' : 'posts'} for <b>{sums.arrivals}</b> arrivals
        {sums.compared && (
          <>
            ; version {version}, which is on, tells <b>{sums.was}</b>.{' '}
            {sums.differ === 0 ? (
              <span className="good">✓ No post differs.</span>
            ) : (
              <span className="brass">
                △ {sums.differ} {sums.differ === 1 ? 'post differs' : 'posts differ'}.
              </span>
            )}
          </>
        )}
      </p>
      <Needed sums={sums} />
      <section className="band">
        <h2 className="band-label">Where</h2>
        <Places sums={sums} version={version} />
      </section>
      <Waiting sums={sums} />
      {sums.compared && sums.differ > 0 && (
        <section className="band">
          <h2 className="band-label">What differs</h2>
          <Differences list={sums.differs ?? []} all={sums.differ} />
        </section>
      )}
      <section className="band">
        <h2 className="band-label">Nobody hears</h2>
        <NobodyHears list={sums.unheard ?? []} />
      </section>
      {(sums.noisiest ?? []).some((n) => n.posts > 1) && (
        <section className="band">
          <h2 className="band-label">Noisiest</h2>
          <p className="noisiest">
            {(sums.noisiest ?? []).slice(0, 12).map((n) => (
              <span key={n.key}>
                <Link to={`/arrivals?q=${encodeURIComponent(n.key)}`}>{n.key || '(no record)'}</Link>{' '}
                <b>{n.posts}</b>
              </span>
            ))}
          </p>
        </section>
      )}
      <section className="band">
        <h2 className="band-label">Posts</h2>
        <Posts list={sums.told ?? []} all={sums.posts} />
      </section>
    </>
  );
}

/** What would wait for people, and for how long: here nobody answers, and nobody takes anything. */
function Waiting({ sums }: { sums: Comparison }) {
  const waits = sums.waits ?? [];
  const steps = sums.steps ?? [];
  if (waits.length + steps.length === 0) return null;
  return (
    <section className="band">
      <h2 className="band-label">Waits for people</h2>
      <div data-testid="waits">
        <p className="muted">
          A rehearsal answers nothing and takes nothing, so this is the most there can be.
        </p>
        <ul>
          {waits.map((w) => (
            <li key={w.ask}>
              {w.ask}: <b>{counted(w.put, 'question')}</b>
              {w.longest && (
                <>
                  ; each waits for up to <b>{w.longest}</b>
                  {w.otherwise ? `, and comes to ${w.otherwise}` : ', and ends without an answer'}
                </>
              )}
              {w.reminders > 0 && `; ${counted(w.reminders, 'reminder')}`}
              {w.open > 0 && `; ${w.open} would still wait at the end`}
            </li>
          ))}
          {steps.map((s) => (
            <li key={s.step}>
              Unless {s.words} within {s.after}: others would be told <b>{counted(s.told, 'time')}</b>
            </li>
          ))}
        </ul>
      </div>
    </section>
  );
}

/** Whether what people made use of would still be told. */
export function Needed({ sums }: { sums: Comparison }) {
  if (sums.needed === 0) return null;
  const of = `${counted(sums.needed, 'alert')} of this time ${sums.needed === 1 ? 'was' : 'were'} of use`;
  if (sums.missed === 0)
    return (
      <p className="good" data-testid="needed">
        ✓ {of}; {sums.needed === 1 ? 'it' : 'each'} would still be told.
      </p>
    );
  return (
    <p className="bad" data-testid="needed">
      ✕ {of}; {sums.missed} would not be told:{' '}
      {(sums.misses ?? []).map((m, i) => (
        <span key={m.key + m.at}>
          {i > 0 && ', '}
          <Link to={`/arrivals?q=${encodeURIComponent(m.key)}`}>{m.key || dayOf(m.at)}</Link>
        </span>
      ))}
      {sums.missed > (sums.misses ?? []).length && ' …'}
    </p>
  );
}

function Places({ sums, version }: { sums: Comparison; version: number }) {
  const places = sums.places ?? [];
  if (places.length === 0) return <p className="muted">Nothing would be told.</p>;
  const most = Math.max(1, ...places.flatMap((p) => [...(p.by_day ?? []), ...(p.was_by_day ?? [])]));
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Channel</th>
          <th>Posts</th>
          {sums.compared && <th>Version {version}</th>}
          <th>
            By day, {sums.days?.[0]} to {sums.days?.at(-1)}
          </th>
        </tr>
      </thead>
      <tbody>
        {places.map((p) => (
          <tr key={p.to}>
            <td>{p.to}</td>
            <td>
              <b>{p.posts}</b>
            </td>
            {sums.compared && <td>{p.was}</td>}
            <td>
              <Days
                days={sums.days ?? []}
                now={p.by_day ?? []}
                was={sums.compared ? (p.was_by_day ?? []) : undefined}
                most={most}
              />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const WIDTH = 720;
const HEIGHT = 34;

interface DaysProps {
  days: string[];
  now: number[];
  was: number[] | undefined;
  most: number;
}

/** Posts by day: bars for now, a line across each day for the version that is on. */
function Days({ days, now, was, most }: DaysProps) {
  const each = WIDTH / Math.max(days.length, 7);
  const y = (n: number) => HEIGHT - (n / most) * (HEIGHT - 2);
  return (
    <svg
      className="rehearsal-days"
      width="100%"
      height={HEIGHT}
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={`Posts by day, at most ${Math.max(0, ...now)}`}
    >
      {days.map((d, i) => (
        <g key={d}>
          <title>{`${d}: ${now[i]} ${now[i] === 1 ? 'post' : 'posts'}${was ? `, version on: ${was[i]}` : ''}`}</title>
          <rect x={i * each} y={0} width={each} height={HEIGHT} className="mark-ground" />
          <rect
            x={i * each + each * 0.15}
            y={now[i] ? y(now[i]) : HEIGHT - 1}
            width={each * 0.7}
            height={now[i] ? HEIGHT - y(now[i]) : 1}
            className={now[i] ? 'bar' : 'bar-none'}
          />
          {was && was[i] !== now[i] && (
            <rect x={i * each} y={y(was[i]!) - 1} width={each} height={2} className="bar-was" />
          )}
        </g>
      ))}
    </svg>
  );
}

const kinds: Record<string, { mark: string; words: string; ink: string }> = {
  new: { mark: '+', words: 'new', ink: 'good' },
  gone: { mark: '−', words: 'gone', ink: 'bad' },
  changed: { mark: '≠', words: 'reworded', ink: 'brass' },
  moved: { mark: '→', words: 'moved', ink: 'brass' },
};

const when = (t: Told) => (
  <span title={fullOf(t.at)}>
    {dayOf(t.at)} {clockOf(t.at)}
  </span>
);

const record = (t: Told) =>
  t.key ? <Link to={`/arrivals?q=${encodeURIComponent(t.key)}`}>{t.key}</Link> : t.arrival;

function Differences({ list, all }: { list: Difference[]; all: number }) {
  return (
    <div>
      <Table<Difference>
        size="small"
        rowKey={(d) => `${d.kind}-${d.arrival}-${d.at}-${d.to}-${d.message}`}
        dataSource={list}
        pagination={{ pageSize: 10, hideOnSinglePage: true, showSizeChanger: false }}
        columns={[
          {
            title: 'Kind',
            width: 96,
            render: (_, d) => (
              <span className={kinds[d.kind]?.ink}>
                {kinds[d.kind]?.mark} {kinds[d.kind]?.words}
              </span>
            ),
            filters: Object.entries(kinds).map(([value, k]) => ({ value, text: k.words })),
            onFilter: (v, d) => d.kind === v,
          },
          { title: 'When', width: 130, render: (_, d) => when(d) },
          { title: 'Record', width: 110, render: (_, d) => record(d) },
          {
            title: 'Where',
            width: 190,
            render: (_, d) => (
              <>
                {d.was_to && (
                  <>
                    <s>{d.was_to}</s> →{' '}
                  </>
                )}
                {d.to}
              </>
            ),
          },
          {
            title: 'What',
            render: (_, d) => (
              <>
                {d.was_title && d.was_title !== d.title && (
                  <>
                    <s>{d.was_title}</s>{' '}
                  </>
                )}
                {d.title || d.plain}
                {d.kind === 'changed' && d.was_plain !== d.plain && (
                  <div className="small">
                    <s>{d.was_plain}</s> {d.plain}
                  </div>
                )}
              </>
            ),
          },
        ]}
      />
      {all > list.length && (
        <p className="muted small">
          The first {list.length} of {all}.
        </p>
      )}
    </div>
  );
}

function NobodyHears({ list }: { list: Schemas['Unheard'][] }) {
  if (list.length === 0) return <p className="muted">Somebody hears of everything.</p>;
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Arrivals</th>
          <th>Verdict</th>
          <th>Decided by</th>
          <th>Lately</th>
        </tr>
      </thead>
      <tbody>
        {list.slice(0, 20).map((u) => (
          <tr key={u.verdict + u.decided_by}>
            <td>
              <b>{u.count}</b>
            </td>
            <td>{u.verdict}</td>
            <td>
              {u.words || u.decided_by || '–'}{' '}
              {u.words && <span className="muted small">{u.decided_by}</span>}
            </td>
            <td>
              {(u.keys ?? []).slice(-3).map((k) => (
                <Link key={k} className="gap-right" to={`/arrivals?q=${encodeURIComponent(k)}`}>
                  {k}
                </Link>
              ))}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Posts({ list, all }: { list: Told[]; all: number }) {
  return (
    <div>
      <Table<Told>
        size="small"
        rowKey={(t) => `${t.arrival}-${t.at}-${t.to}-${t.message}`}
        dataSource={list}
        locale={{ emptyText: 'Nothing would be told.' }}
        pagination={{ pageSize: 10, hideOnSinglePage: true, showSizeChanger: false }}
        columns={[
          { title: 'When', width: 130, render: (_, t) => when(t) },
          { title: 'Record', width: 110, render: (_, t) => record(t) },
          {
            title: 'Where',
            width: 160,
            render: (_, t) => (
              <>
                {t.reply && <span className="muted">↳ </span>}
                {t.updates && <span className="muted">⟳ </span>}
                {t.to}
              </>
            ),
          },
          {
            title: 'Row',
            width: 140,
            render: (_, t) => (t.verdict === 'told' ? t.row : [t.verdict, t.row].filter(Boolean).join(': ')),
          },
          {
            title: 'What',
            render: (_, t) => (
              <>
                <b>{t.title}</b> <span className="muted">{t.plain}</span>
              </>
            ),
          },
        ]}
      />
      {all > list.length && (
        <p className="muted small">
          The first {list.length} of {all}; the exports have all.
        </p>
      )}
    </div>
  );
}
