import type { Schemas } from '../../api/client';

const words: Record<string, { mark: string; ink: string }> = {
  added: { mark: '+', ink: 'good' },
  removed: { mark: '−', ink: 'bad' },
  changed: { mark: '≠', ink: 'brass' },
};

/** What differs between two versions, in the sheet's own terms. */
export function Changes({ list }: { list: Schemas['Change'][] }) {
  if (list.length === 0) return <p className="muted small">Nothing that the sheet says.</p>;
  return (
    <ul className="changelist">
      {list.map((c, i) => (
        <li key={i}>
          <span className="muted">{c.band}</span>{' '}
          <span className={words[c.kind]?.ink} title={c.kind}>
            {words[c.kind]?.mark}
            <span className="unseen">{c.kind}</span>
          </span>{' '}
          {c.what && <>{c.what}: </>}
          {c.was && <s>{c.was}</s>} {c.now && <b>{c.now}</b>}
        </li>
      ))}
    </ul>
  );
}
