import './people.css';
import { useAct } from '../../api/act';
import { App, Button, Checkbox, Select } from 'antd';
import { api, answerOf, type Schemas } from '../../api/client';
import { useMe, usePeople, useTeams } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { agoOf } from '../../parts/times';
import { ChangesMade } from './ChangesMade';
import { Invitations } from './Invitations';
import { Teams } from './Teams';
import { Several } from '../../parts/Several';

const roles = [
  { value: 'administrator', label: 'administrator' },
  { value: 'editor', label: 'editor' },
  { value: 'viewer', label: 'viewer' },
];

/** Who may do what: people, their teams, invitations, and what was changed by whom. */
export function People() {
  const me = useMe().data;
  const people = usePeople();
  const teams = useTeams();
  const admin = me?.role === 'administrator';
  if (people.error) return <Trouble error={people.error} again={() => void people.refetch()} />;
  if (teams.error) return <Trouble error={teams.error} again={() => void teams.refetch()} />;
  if (!people.data || !teams.data) return null;
  const items = people.data.items ?? [];
  return (
    <main className="place" id="place">
      <h1>People</h1>
      <p className="lead">
        Administrators may do everything. Editors change workflows that belong to one of their teams or to
        none, and connections; the people book only where they keep it. Viewers look.
      </p>
      <section className="band">
        <h2 className="band-label">People</h2>
        <div className="band-body">
          <table className="ledger">
            <thead>
              <tr>
                <th>Name</th>
                <th>Mail address</th>
                <th>Role</th>
                <th>Teams</th>
                <th>Last here</th>
                {admin && <td />}
              </tr>
            </thead>
            <tbody>
              {items.map((p) => (
                <PersonRow
                  key={p.id}
                  p={p}
                  admin={admin}
                  own={p.id === me?.id}
                  teams={teams.data?.items ?? []}
                />
              ))}
            </tbody>
          </table>
        </div>
      </section>
      {admin && <Invitations teams={teams.data?.items ?? []} />}
      <Teams items={teams.data?.items ?? []} admin={admin} />
      <ChangesMade people={items} />
    </main>
  );
}

interface RowProps {
  p: Schemas['PersonItem'];
  admin: boolean;
  own: boolean;
  teams: Schemas['TeamItem'][];
}

function PersonRow({ p, admin, own, teams }: RowProps) {
  const { modal } = App.useApp();
  const change = useAct(
    (body: Schemas['ChangePersonInputBody']) =>
      answerOf(api.PATCH('/api/people/{id}', { params: { path: { id: p.id } }, body })),
    ['people', 'teams', 'audit', 'me'],
  );
  const letGo = () =>
    modal.confirm({
      title: `Let ${p.name} go?`,
      content:
        'Every session ends at once, and signing in is no longer possible. What they made stays. You can take them back.',
      okText: 'Let them go',
      onOk: () => change.mutateAsync({ gone: true }).catch(() => undefined),
    });
  const names = teams.filter((t) => (p.teams ?? []).includes(t.id)).map((t) => t.name);
  return (
    <tr className={p.gone ? 'is-off' : ''}>
      <td>
        {p.name}
        {own && <span className="muted"> (you)</span>}
      </td>
      <td>{p.email}</td>
      <td>
        {admin && !p.gone ? (
          <div className="inline">
            <Select
              size="small"
              aria-label={`Role of ${p.name}`}
              className="role-select"
              value={p.role}
              options={roles}
              onChange={(role) => change.mutate({ role })}
            />
            {p.role === 'editor' && (
              <Checkbox
                className="small"
                checked={p.keeps_book}
                aria-label={`${p.name} keeps the people book`}
                onChange={(e) => change.mutate({ keeps_book: e.target.checked })}
              >
                keeps the people book
              </Checkbox>
            )}
          </div>
        ) : p.gone ? (
          <span className="muted">gone</span>
        ) : (
          `${p.role}${p.role === 'editor' && p.keeps_book ? ', keeps the people book' : ''}`
        )}
      </td>
      <td>
        {admin && !p.gone ? (
          <Several
            size="small"

            aria-label={`Teams of ${p.name}`}
            className="teams-select"
            placeholder="none"
            value={p.teams ?? []}
            options={teams.map((t) => ({ value: t.id, label: t.name }))}
            onChange={(next: number[]) => change.mutate({ teams: next })}
          />
        ) : (
          names.join(', ') || <span className="muted">none</span>
        )}
      </td>
      <td className="when">{p.seen ? agoOf(p.seen) : ''}</td>
      {admin && (
        <td>
          {p.gone ? (
            <Button size="small" onClick={() => change.mutate({ gone: false })}>
              Take back
            </Button>
          ) : (
            !own && (
              <Button size="small" type="text" onClick={() => void letGo()}>
                Let go
              </Button>
            )
          )}
        </td>
      )}
    </tr>
  );
}
