import './signin.css';
import { useQueryClient } from '@tanstack/react-query';
import { useState, type SyntheticEvent } from 'react';
import { api, answerOf } from '../../api/client';

export function SignIn() {
  const cache = useQueryClient();
  const [error, setError] = useState('');
  const [busy, setBusy] = useState(false);

  const [email, setEmail] = useState('');
  const [password, setPassword] = useState('');
  const [shown, setShown] = useState(false);

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

  const send = (e: SyntheticEvent) => {
    e.preventDefault();
    if (!email.trim()) setError('Your mail address is missing.');
    else if (!password) setError('Your password is missing.');
    else void signIn({ email: email.trim(), password });
  };

  return (
    <main className="signin" id="place">
      <div className="signin-page">
        <h1>Dorfbote</h1>
        <p className="muted">Who was told what, and why.</p>
        <form onSubmit={send} noValidate>
          <label htmlFor="email">Mail address</label>
          <input
            id="email"
            className="plain-input"
            type="text"
            autoComplete="username"
            autoFocus
            aria-describedby="sign-in-says"
            value={email}
            onChange={(e) => setEmail(e.target.value)}
          />
          <label htmlFor="password">Password</label>
          <input
            id="password"
            className="plain-input"
            type={shown ? 'text' : 'password'}
            autoComplete="current-password"
            aria-describedby="sign-in-says"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
          <label className="plain-check">
            <input type="checkbox" checked={shown} onChange={(e) => setShown(e.target.checked)} /> show it
          </label>
          <p id="sign-in-says" className="bad" role="alert">
            {error}
          </p>
          <button type="submit" className="plain-button plain-primary" disabled={busy}>
            Sign in
          </button>
        </form>
      </div>
    </main>
  );
}
