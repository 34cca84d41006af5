import { useAct } from '../../api/act';
import { useState } from 'react';
import { api, answerOf, type ConnectionDetail } from '../../api/client';
import { agoOf } from '../../parts/times';

const never = '0001-01-01T00:00:00Z';

/** When the connection's secret ends, so that Today tells in time. Tokens that say so themselves need no setting. */
export function SecretEnds({ c, editor }: { c: ConnectionDetail; editor: boolean }) {
  const set = useAct(
    (secret_expires: string) =>
      answerOf(
        api.PATCH('/api/connections/{id}', { params: { path: { id: c.id } }, body: { secret_expires } }),
      ),
    ['connections', 'today'],
  );
  const [now] = useState(() => Date.now());
  if ((c.secrets ?? []).length === 0) return null;
  const ends = c.secret_expires;
  const soon = ends && new Date(ends).getTime() < now + 14 * 86_400_000;
  return (
    <p className={soon ? 'brass' : 'muted'}>
      {ends
        ? `${soon ? '△ ' : ''}Its secret ends ${agoOf(ends)}. `
        : 'It is not known whether its secret ends. '}
      {editor && (
        <label>
          {ends ? 'Ends on' : 'It ends on'}{' '}
          <input
            type="date"
            className="nativetime"
            value={ends ? ends.slice(0, 10) : ''}
            onChange={(e) => {
              const at = new Date(e.target.value + 'T12:00:00Z');
              if (!e.target.value) set.mutate(never);
              else if (at.getUTCFullYear() > 2000) set.mutate(at.toISOString());
            }}
          />
        </label>
      )}
    </p>
  );
}
