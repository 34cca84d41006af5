import { useQueryClient } from '@tanstack/react-query';
import { Button, Form, Input } from 'antd';
import { useState } from 'react';
import { api, answerOf } from '../../api/client';

export function SignIn() {
  const cache = useQueryClient();
  const [error, setError] = useState('');
  const [busy, setBusy] = useState(false);

  const signIn = async (body: { email: string; password: string }) => {
    setBusy(true);
    setError('');
    try {
      cache.setQueryData(['me'], await answerOf(api.POST('/api/sign-in', { body })));
    } catch (e) {
      setError((e as Error).message);
    } finally {
      setBusy(false);
    }
  };

  return (
    <main className="signin" id="place">
      <div className="signin-page">
        <h1>Dorfbote</h1>
        <p className="muted">Who was told what, and why.</p>
        <Form
          layout="vertical"
          requiredMark={false}
          onFinish={(v) => void signIn(v as { email: string; password: string })}
        >
          <Form.Item
            label="Mail address"
            name="email"
            rules={[{ required: true, message: 'Your mail address' }]}
          >
            <Input autoComplete="username" autoFocus />
          </Form.Item>
          <Form.Item label="Password" name="password" rules={[{ required: true, message: 'Your password' }]}>
            <Input.Password autoComplete="current-password" />
          </Form.Item>
          {error && (
            <p className="bad" role="alert">
              {error}
            </p>
          )}
          <Button type="primary" htmlType="submit" loading={busy} block>
            Sign in
          </Button>
        </Form>
      </div>
    </main>
  );
}
