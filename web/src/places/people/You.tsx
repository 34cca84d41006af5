import './people.css';
import { useAct } from '../../api/act';
import { useQuery } from '@tanstack/react-query';
import { App, Button, Form, Input } from 'antd';
import { api, answerOf } from '../../api/client';
import { useMe } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { agoOf, fullOf } from '../../parts/times';

/** One's own sessions, each of which can be ended, and the password. */
export function You() {
  const me = useMe().data;
  const { message } = App.useApp();
  const [form] = Form.useForm<{ current: string; next: string }>();
  const list = useQuery({ queryKey: ['sign-ins'], queryFn: () => answerOf(api.GET('/api/sign-ins')) });
  const act = useAct((call: () => Promise<unknown>) => call(), ['sign-ins']);
  const items = list.data?.items ?? [];
  return (
    <main className="place" id="place">
      <h1>{me?.name}</h1>
      <p className="lead">
        {me?.email}, {me?.role}
      </p>
      <section className="band">
        <h2 className="band-label">Sessions</h2>
        <div className="band-body">
          {list.error && <Trouble error={list.error} again={() => void list.refetch()} />}
          <table className="ledger">
            <thead>
              <tr>
                <th>Since</th>
                <th>Last used</th>
                <th>From</th>
                <th>Browser</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {items.map((s) => (
                <tr key={s.id}>
                  <td className="when" title={fullOf(s.at)}>
                    {agoOf(s.at)}
                  </td>
                  <td className="when">
                    {s.current ? <b className="good">● this one</b> : agoOf(s.seen_at)}
                  </td>
                  <td>{s.address}</td>
                  <td className="small muted">{s.program}</td>
                  <td>
                    {!s.current && (
                      <Button
                        size="small"
                        onClick={() =>
                          act.mutate(() =>
                            answerOf(api.POST('/api/sign-ins/{id}/end', { params: { path: { id: s.id } } })),
                          )
                        }
                      >
                        End
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {items.length > 1 && (
            <Button onClick={() => act.mutate(() => answerOf(api.POST('/api/sign-ins/end-others')))}>
              End all but this one
            </Button>
          )}
        </div>
      </section>
      <section className="band">
        <h2 className="band-label">Password</h2>
        <div className="band-body">
          <Form
            form={form}
            layout="vertical"
            requiredMark={false}
            className="narrowform"
            onFinish={(v) =>
              act.mutate(async () => {
                await answerOf(api.POST('/api/me/password', { body: { current: v.current, new: v.next } }));
                form.resetFields();
                void message.success('The new password holds. Your other sessions have ended.');
              })
            }
          >
            <Form.Item
              label="Current password"
              name="current"
              rules={[{ required: true, message: 'Your current password' }]}
            >
              <Input.Password autoComplete="current-password" />
            </Form.Item>
            <Form.Item
              label="New password"
              name="next"
              rules={[{ required: true, min: 10, message: 'At least 10 characters' }]}
            >
              <Input.Password autoComplete="new-password" />
            </Form.Item>
            <Button htmlType="submit" loading={act.isPending}>
              Change the password
            </Button>
          </Form>
        </div>
      </section>
    </main>
  );
}
