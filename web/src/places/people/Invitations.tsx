import { useQuery } from '@tanstack/react-query';
import { Button, Input, Select } from 'antd';
import { useState } from 'react';
import { useAct } from '../../api/act';
import { api, answerOf, type Schemas } from '../../api/client';
import { agoOf } from '../../parts/times';

type Role = Schemas['InviteInputBody']['role'];

/** Inviting somebody, and the invitations that are open. */
export function Invitations({ teams }: { teams: Schemas['TeamItem'][] }) {
  const [email, setEmail] = useState('');
  const [role, setRole] = useState<Role>('editor');
  const [team, setTeam] = useState<number>();
  const list = useQuery({ queryKey: ['invitations'], queryFn: () => answerOf(api.GET('/api/invitations')) });
  const invite = useAct(
    () => answerOf(api.POST('/api/invitations', { body: { email, role, team } })),
    ['invitations', 'audit'],
    () => setEmail(''),
  );
  const withdraw = useAct(
    (id: number) => answerOf(api.DELETE('/api/invitations/{id}', { params: { path: { id } } })),
    ['invitations', 'audit'],
  );
  const open = list.data?.items ?? [];
  return (
    <section className="band">
      <h2 className="band-label">Invitations</h2>
      <div className="band-body">
        <form
          className="inline"
          onSubmit={(e) => {
            e.preventDefault();
            invite.mutate();
          }}
        >
          <span>Invite</span>
          <Input
            className="wide-select"
            aria-label="Mail address to invite"
            type="email"
            placeholder="name@example.org"
            value={email}
            onChange={(e) => setEmail(e.target.value)}
          />
          <span>as</span>
          <Select
            className="role-select"
            aria-label="Role of the invited"
            value={role}
            options={(['administrator', 'editor', 'viewer'] as const).map((v) => ({ value: v, label: v }))}
            onChange={(v: Role) => setRole(v)}
          />
          <Select
            className="side-select"
            aria-label="Team of the invited"
            allowClear
            placeholder="no team"
            value={team}
            options={teams.map((t) => ({ value: t.id, label: t.name }))}
            onChange={(v?: number) => setTeam(v)}
          />
          <Button htmlType="submit" type="primary" disabled={!email.includes('@')} loading={invite.isPending}>
            Make the link
          </Button>
        </form>
        {invite.data?.link && (
          <div className="once" role="status">
            <p>
              Send this link to {invite.data.email}. It is shown this once, and holds for a week and for one
              person.
            </p>
            <Input
              readOnly
              aria-label="Link of the invitation"
              className="mono"
              value={invite.data.link}
              onFocus={(e) => e.target.select()}
            />
          </div>
        )}
        {open.length > 0 && (
          <table className="ledger">
            <tbody>
              {open.map((i) => (
                <tr key={i.id}>
                  <td>{i.email}</td>
                  <td>{i.role}</td>
                  <td className="muted">
                    invited by {i.invited_by}, ends {agoOf(i.expires_at)}
                  </td>
                  <td>
                    <Button size="small" type="text" onClick={() => withdraw.mutate(i.id)}>
                      Withdraw
                    </Button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </section>
  );
}
