import { Button, Input } from 'antd';
import { useState } from 'react';
import { useMayEdit } from '../../api/act';
import { Trouble } from '../../parts/Trouble';
import { useGate, useSetGate } from './usePractice';

/** Where the Counter asks before it confirms an order: a workflow that is started by a call and answers it. */
export function Gate({ app }: { app: string }) {
  const gate = useGate(app);
  const set = useSetGate(app);
  const mayEdit = useMayEdit();
  const [address, setAddress] = useState('');
  const [token, setToken] = useState('');
  if (!gate.data) return null;
  const asks = gate.data.address !== '';
  return (
    <details className="gate small">
      <summary>
        {asks
          ? `It asks ${gate.data.address} before an order is confirmed.`
          : 'It confirms orders without asking anybody.'}
      </summary>
      {mayEdit && asks && (
        <p>
          <Button size="small" loading={set.isPending} onClick={() => set.mutate(undefined)}>
            Ask nobody
          </Button>
        </p>
      )}
      {mayEdit && !asks && (
        <>
          <p className="muted">
            Have it ask a workflow that is started by a call and answers with <code>allowed</code>. Its
            address and token stand under “Start…” of the workflow.
          </p>
          <p className="inline">
            <Input
              aria-label="Address that is called"
              placeholder="http://…/call/7"
              value={address}
              onChange={(e) => setAddress(e.target.value)}
            />
            <Input.Password
              aria-label="Token of the workflow"
              placeholder="token"
              autoComplete="off"
              value={token}
              onChange={(e) => setToken(e.target.value)}
            />
            <Button
              type="primary"
              disabled={!address || !token}
              loading={set.isPending}
              onClick={() => set.mutate({ address, token }, { onSuccess: () => setToken('') })}
            >
              Ask before confirming
            </Button>
          </p>
        </>
      )}
      {set.error && <Trouble error={set.error} />}
    </details>
  );
}
