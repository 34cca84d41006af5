import type { AttemptItem } from '../api/client';
import { clockOf, dayOf, fullOf } from './times';

/** JSON with its parts set out; other text as it is. */
export function pretty(text: string): string {
  try {
    const parsed: unknown = JSON.parse(text, (_, v: unknown, context?: { source?: string }) =>
      typeof v === 'number' && context?.source && !Number.isSafeInteger(v) ? context.source : v,
    );
    return JSON.stringify(parsed, null, 2);
  } catch {
    return text;
  }
}

/** Every try of a post or a step: what went out, and what came back. */
export function Attempts({ tried, state }: { tried: AttemptItem[]; state: string }) {
  if (tried.length === 0)
    return (
      <p className="muted">
        {state === 'sent' ? 'What went out and came back was not kept.' : 'It has not been tried yet.'}
      </p>
    );
  const [last, ...earlier] = tried;
  return (
    <div className="attempts">
      <Attempt a={last!} n={tried.length} />
      {earlier.length > 0 && (
        <details>
          <summary>
            {earlier.length} earlier {earlier.length === 1 ? 'try' : 'tries'}
          </summary>
          <ol className="plainlist">
            {earlier.map((a, i) => (
              <li key={a.at}>
                <TryLine a={a} n={earlier.length - i} />
                <div className="muted small">{a.answer}</div>
              </li>
            ))}
          </ol>
        </details>
      )}
    </div>
  );
}

function TryLine({ a, n }: { a: AttemptItem; n: number }) {
  return (
    <p className="small" title={fullOf(a.at)}>
      Try {n}, {dayOf(a.at)} {clockOf(a.at)}:{' '}
      {a.open ? (
        <span className="brass">under way, no answer yet</span>
      ) : (
        <>
          {a.status > 0 ? a.status : 'no answer'} <span className="muted">after {a.took_ms} ms</span>
        </>
      )}
    </p>
  );
}

function Attempt({ a, n }: { a: AttemptItem; n: number }) {
  return (
    <>
      <TryLine a={a} n={n} />
      <div className="exchange">
        <div>
          <h3>As sent</h3>
          <p className="small mono">{a.address}</p>
          <pre tabIndex={0} aria-label="Body as sent">
            {pretty(a.sent) || '(nothing)'}
          </pre>
        </div>
        <div>
          <h3>As answered</h3>
          <p className="small mono">
            {a.open ? 'still waiting' : a.status > 0 ? `HTTP ${a.status}` : 'no answer came'}
          </p>
          <pre tabIndex={0} aria-label="Answer as received">
            {pretty(a.answer) || '(nothing)'}
          </pre>
        </div>
      </div>
    </>
  );
}
