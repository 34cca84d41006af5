import './people.css';
import { useQuery } from '@tanstack/react-query';
import { Button, Form, Input } from 'antd';
import { useState } from 'react';
import { api, answerOf } from '../../api/client';

/** Where an invitation leads: a name, a password, and in. */
export function Welcome({ token }: { token: string }) {
  const [error, setError] = useState('');
  const [busy, setBusy] = useState(false);
  const invitation = useQuery({
    queryKey: ['welcome', token],
    retry: false,
    queryFn: () => answerOf(api.GET('/api/welcome/{token}', { params: { path: { token } } })),
  });
  const accept = async (body: { name: string; password: string; email?: string }) => {
    setBusy(true);
    setError('');
    try {
      await answerOf(api.POST('/api/welcome/{token}', { params: { path: { token } }, body }));
      window.location.assign('/today');
    } catch (e) {
      setError((e as Error).message);
      setBusy(false);
    }
  };
  const i = invitation.data;
  return (
    <main className="signin" id="place">
      <div className="signin-page">
        <h1>Dorfbote</h1>
        {invitation.error && (
          <>
            <p className="bad" role="alert">
              {invitation.error.message}
            </p>
            <p>
              <a href="/">Sign in</a>
            </p>
          </>
        )}
        {i && (
          <>
            <p className="muted">
              {i.email
                ? `${i.invited_by} has invited ${i.email} as ${i.role}.`
                : 'Nobody is here yet. You become the first administrator, and can invite the others.'}
            </p>
            <Form
              layout="vertical"
              requiredMark={false}
              onFinish={(v) => void accept(v as { name: string; password: string; email?: string })}
            >
              <Form.Item label="Your name" name="name" rules={[{ required: true, message: 'Your name' }]}>
                <Input autoComplete="name" autoFocus />
              </Form.Item>
              {!i.email && (
                <Form.Item
                  label="Your mail address"
                  name="email"
                  rules={[{ required: true, type: 'email', message: 'The mail address you sign in with' }]}
                >
                  <Input autoComplete="username" inputMode="email" />
                </Form.Item>
              )}
              <Form.Item
                label="Choose a password"
                name="password"
                rules={[{ required: true, min: 10, message: 'At least 10 characters' }]}
              >
                <Input.Password autoComplete="new-password" />
              </Form.Item>
              {error && (
                <p className="bad" role="alert">
                  {error}
                </p>
              )}
              <Button type="primary" htmlType="submit" loading={busy} block>
                Begin
              </Button>
            </Form>
          </>
        )}
      </div>
    </main>
  );
}
