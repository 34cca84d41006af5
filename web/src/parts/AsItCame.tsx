import { Typography } from 'antd';
import type { ArrivalDetail } from '../api/client';

/** What was answered at a start, and the arrival as it came, to look at and to copy. */
export function AsItCame({ a }: { a: ArrivalDetail }) {
  const answers = Object.entries((a.answers ?? {}) as Record<string, unknown>);
  const text = a.event ? JSON.stringify(a.event, null, 2) : '';
  return (
    <>
      {answers.length > 0 && (
        <>
          <h2>Answers</h2>
          <table className="ledger" aria-label="Answers">
            <tbody>
              {answers.map(([name, value]) => (
                <tr key={name}>
                  <th scope="row">{name}</th>
                  <td>{typeof value === 'object' ? JSON.stringify(value) : String(value)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
      {text && (
        <details className="asitcame">
          <summary>As it came (JSON)</summary>
          <Typography.Text copyable={{ text, tooltips: ['Copy it', 'Copied'] }}>
            <span className="muted small">CloudEvent 1.0</span>
          </Typography.Text>
          <pre className="mono small" tabIndex={0}>
            {text}
          </pre>
        </details>
      )}
    </>
  );
}
