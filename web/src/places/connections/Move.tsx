import { useQueryClient } from '@tanstack/react-query';
import { useAct } from '../../api/act';
import { App, Button, Select } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, answerOf, type ConnectionDetail } from '../../api/client';
import { useConnections } from '../../api/queries';
import { counted } from '../../parts/counted';
import { Trouble } from '../../parts/Trouble';

/** Which sheets rely on a connection, and how to move them all to another before it is retired. */
export function Move({ c, editor }: { c: ConnectionDetail; editor: boolean }) {
  const cache = useQueryClient();
  const { message } = App.useApp();
  const others = (useConnections().data?.items ?? []).filter((o) => o.kind === c.kind && o.id !== c.id);
  const [to, setTo] = useState<string>();
  const move = useAct(
    (apply: boolean) =>
      answerOf(
        api.POST('/api/connections/{id}/move', {
          params: { path: { id: c.id } },
          body: { to: to ?? '', apply },
        }),
      ),
    [],
    (done) => {
      if (!done.applied) return;
      void message.success('All moved.');
      void cache.invalidateQueries();
      setTo(undefined);
    },
    'in place',
  );
  const uses = c.uses ?? [];
  if (uses.length === 0 && c.persons === 0)
    return <p className="muted">No sheet names it. It can be deleted.</p>;
  const planned = move.data && !move.data.applied && to ? move.data : undefined;
  const blocked = (planned?.uses ?? []).some((u) => u.problem);
  return (
    <>
      <ul className="plainlist">
        {uses.map((u) => (
          <li key={u.workflow_id}>
            <Link to={`/workflows/${u.workflow_id}`}>{u.name}</Link>{' '}
            <span className={u.on ? 'good' : 'muted'}>{u.on ? '● on' : '○ off'}</span>{' '}
            <span className="muted small">
              {[...new Set((u.places ?? []).map((p) => p.was))].join(', ')}
              {!u.live && u.on && ' (in the draft only)'}
            </span>
          </li>
        ))}
      </ul>
      {c.persons > 0 && (
        <p className="muted">
          {counted(c.persons, 'person', 'persons')} of the <Link to="/people-book">people book</Link>{' '}
          {c.persons === 1 ? 'has an address' : 'have addresses'} on it.
        </p>
      )}
      {editor && others.length > 0 && (
        <div className="inline">
          <span>To retire it, move them all to</span>
          <Select
            aria-label="The connection to move to"
            className="wide-select"
            placeholder="another connection of its kind"
            value={to}
            options={others.map((o) => ({ value: o.id, label: `${o.title} (${o.id})` }))}
            onChange={(v: string) => {
              setTo(v);
              move.reset();
            }}
          />
          <Button disabled={!to} loading={move.isPending} onClick={() => move.mutate(false)}>
            Show what would change
          </Button>
        </div>
      )}
      {move.error && <Trouble error={move.error} />}
      {planned && (
        <div className="moveplan">
          <table className="ledger">
            <thead>
              <tr>
                <th>Sheet</th>
                <th>Line</th>
                <th>Now</th>
                <th>Then</th>
              </tr>
            </thead>
            <tbody>
              {(planned.uses ?? []).flatMap((u) =>
                (u.places ?? []).map((p, i) => (
                  <tr key={`${u.workflow_id}-${i}`}>
                    <td>
                      {u.name}
                      {u.problem && i === 0 && <div className="bad small">✕ {u.problem}</div>}
                    </td>
                    <td>{p.line}</td>
                    <td>
                      <s>{p.was}</s>
                    </td>
                    <td>{p.now}</td>
                  </tr>
                )),
              )}
            </tbody>
          </table>
          {planned.persons > 0 && (
            <p>
              The addresses of {counted(planned.persons, 'person', 'persons')} of the people book move along.
            </p>
          )}
          {(planned.missing ?? []).length > 0 && (
            <p className="brass">△ Not there yet: {(planned.missing ?? []).join(', ')}</p>
          )}
          <Button
            type="primary"
            disabled={blocked}
            loading={move.isPending}
            onClick={() => move.mutate(true)}
          >
            Move all {(planned.uses ?? []).length + planned.persons}
          </Button>
          {blocked && <span className="bad"> Some could not run after the move; nothing is moved.</span>}
        </div>
      )}
    </>
  );
}
