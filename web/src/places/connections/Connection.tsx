import './connections.css';
import { useAct, useMayEdit } from '../../api/act';
import { useQueryClient } from '@tanstack/react-query';
import { App, Button } from 'antd';
import { useState } from 'react';
import { Link, useLocation, useNavigate, useParams } from 'react-router';
import { api, answerOf, type ConnectionDetail } from '../../api/client';
import { useConnection, useKinds } from '../../api/queries';
import { Band } from '../../parts/Band';
import { Trouble } from '../../parts/Trouble';
import { agoOf } from '../../parts/times';
import { AddSource } from './AddSource';
import { ConnectionState } from './Connections';
import { Health } from './Health';
import { HookBand } from './HookBand';
import { Move } from './Move';
import { SecretEnds } from './SecretEnds';
import { SettingsForm } from './SettingsForm';
import { SourceList } from './SourceList';
import { Steps } from './Steps';
import { Telling } from './Telling';

/** One connection: whether it works, what is read from it, and who relies on it. */
export function Connection() {
  const id = useParams().id ?? '';
  const connection = useConnection(id);
  if (connection.error) return <Trouble error={connection.error} again={() => void connection.refetch()} />;
  if (!connection.data) return null;
  return <Page key={id} c={connection.data} />;
}

function Page({ c }: { c: ConnectionDetail }) {
  const kinds = useKinds();

  const state = useLocation().state as { secret?: string; fresh?: boolean } | null;
  const kind = kinds.data?.items?.find((k) => k.name === c.kind);
  const editor = useMayEdit();
  const [adding, setAdding] = useState(Boolean(state?.fresh) && c.receives && !c.signs && !c.sends);
  if (!kind) return null;
  return (
    <main className="place connection" id="place">
      <div className="place-head">
        <Link to="/connections" className="back" aria-label="Back to all connections">
          ‹
        </Link>
        <h1>{c.title}</h1>
        <p className="lead">
          {c.kind_title}, <span className="mono small">{c.id}</span> · <ConnectionState c={c} />
        </p>
        {editor && <Acts c={c} />}
      </div>
      {c.failing_since && !c.paused && (
        <div className="trouble" role="status">
          <strong>Failing since {agoOf(c.failing_since)}.</strong> {c.last_error}
        </div>
      )}
      <SecretEnds c={c} editor={editor} />
      <ProveBand c={c} proves={kind.proves} editor={editor} />
      {c.sends && <Telling c={c} kind={kind} secret={state?.secret} editor={editor} />}
      {kind.reads === 'called' && !c.sends && <HookBand c={c} secret={state?.secret} editor={editor} />}
      {c.receives && (
        <Band label="Reads" hint="its sources">
          <div className="bandbody">
            <SourceList c={c} kind={kind} editor={editor} />
            {editor && kind.reads === 'asked' && !(kind.single && (c.reads ?? []).length > 0) && !adding && (
              <Button onClick={() => setAdding(true)}>Read something from it</Button>
            )}
            {adding && <AddSource c={c} kind={kind} done={() => setAdding(false)} />}
          </div>
        </Band>
      )}
      <Band label="Used by" hint="sheets that name it">
        <div className="bandbody">
          <Move c={c} editor={editor} />
        </div>
      </Band>
    </main>
  );
}

function Acts({ c }: { c: ConnectionDetail }) {
  const cache = useQueryClient();
  const go = useNavigate();
  const { modal } = App.useApp();
  const path = { params: { path: { id: c.id } } };
  const refresh = () => void cache.invalidateQueries({ queryKey: ['connections'] });
  const pause = useAct(
    (paused: boolean) => answerOf(api.PATCH('/api/connections/{id}', { ...path, body: { paused } })),
    [],
    refresh,
  );
  const remove = useAct(
    () => answerOf(api.DELETE('/api/connections/{id}', path)),
    ['connections'],
    () => {
      void go('/connections');
    },
  );
  return (
    <span className="acts">
      <Button loading={pause.isPending} onClick={() => pause.mutate(!c.paused)}>
        {c.paused ? 'Go on' : 'Pause'}
      </Button>
      <Button
        danger
        loading={remove.isPending}
        onClick={() =>
          void modal.confirm({
            title: `Delete ${c.title}?`,
            content: 'Its sources and what was remembered of their records go with it. Arrivals stay.',
            okText: 'Delete it',
            okButtonProps: { danger: true },
            onOk: () => remove.mutate(),
          })
        }
      >
        Delete
      </Button>
    </span>
  );
}

function ProveBand({ c, proves, editor }: { c: ConnectionDetail; proves: boolean; editor: boolean }) {
  const kind = useKinds().data?.items?.find((k) => k.name === c.kind);
  const [editing, setEditing] = useState(false);
  const [values, setValues] = useState<Record<string, string>>(c.settings);
  const prove = useAct(
    () => answerOf(api.POST('/api/connections/{id}/prove', { params: { path: { id: c.id } } })),
    ['connections'],
    undefined,
    'in place',
  );
  const save = useAct(
    () => {
      const secrets = new Set(
        (kind?.settings ?? [])
          .filter((f) => f.type === 'secret' || f.type === 'addresses')
          .map((f) => f.name),
      );
      const settings = Object.fromEntries(
        Object.entries(values).filter(([n, v]) => v !== '' || !secrets.has(n)),
      );
      return answerOf(
        api.PATCH('/api/connections/{id}', { params: { path: { id: c.id } }, body: { settings } }),
      );
    },
    ['connections'],
    () => {
      setEditing(false);

      if (proves) prove.mutate();
    },
    'in place',
  );
  const fields = (kind?.settings ?? []).filter((f) => !kind?.signs || f.name !== 'signed');
  return (
    <Band label="Proof" hint="does it work">
      <div className="bandbody">
        <div className="inline">
          {editor && (
            <Button loading={prove.isPending} onClick={() => prove.mutate()}>
              Prove it
            </Button>
          )}
          {editor && (proves || kind?.signs) && fields.length > 0 && (
            <Button type="text" onClick={() => setEditing(!editing)}>
              {editing ? 'Leave the settings' : 'Change its settings'}
            </Button>
          )}
          <Health hours={c.health ?? []} />
        </div>
        {prove.data && <Steps steps={prove.data.steps ?? []} />}
        {prove.error && <Trouble error={prove.error} />}
        {editing && (
          <>
            <SettingsForm fields={fields} values={values} change={setValues} secrets={c.secrets ?? []} />
            {save.error && <Trouble error={save.error} />}
            <Button type="primary" loading={save.isPending} onClick={() => save.mutate()}>
              {proves ? 'Save and prove' : 'Save'}
            </Button>
          </>
        )}
      </div>
    </Band>
  );
}
