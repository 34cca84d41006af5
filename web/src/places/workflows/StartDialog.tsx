import './workflows.css';
import { useAct } from '../../api/act';
import { useQuery } from '@tanstack/react-query';
import { App, Button, Checkbox, Input, Modal, Select, Typography } from 'antd';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, answerOf, type Question } from '../../api/client';
import { useRecords } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { Several } from '../../parts/Several';

interface Props {
  id: number;
  name: string;
  /** Records that were chosen already. */
  of?: string[];
  close: () => void;
}

/** Starts a workflow by hand: for which records, with what answers, and a last question. */
export function StartDialog({ id, name, of = [], close }: Props) {
  const go = useNavigate();
  const { message } = App.useApp();
  const path = { params: { path: { id } } };
  const form = useQuery({
    queryKey: ['start', id],
    queryFn: () => answerOf(api.GET('/api/workflows/{id}/start', path)),
    retry: false,
    staleTime: 0,
  });
  const [records, setRecords] = useState<string[]>(of);
  const [answers, setAnswers] = useState<Record<string, unknown>>({});
  const start = useAct(
    () => answerOf(api.POST('/api/workflows/{id}/start', { ...path, body: { records, answers } })),
    [],
    (done) => {
      const made = done.arrivals ?? [];
      const run = made[0] && `/runs/${made[0].seq}/${id}`;
      void message.success({
        duration: 8,
        content: (
          <>
            {made.length === 1 ? 'Started.' : `Started for ${made.length} records.`}{' '}
            {run && (
              <Button type="link" size="small" onClick={() => void go(run)}>
                {made.length === 1 ? 'Look at its run' : 'Look at the first run'}
              </Button>
            )}
          </>
        ),
      });
      close();
    },
    'in place',
  );
  const f = form.data;
  const open = (f?.ask ?? []).filter((q) => q.required && empty(answers[q.name]));
  const ready = f && open.length === 0 && (!f.source || records.length > 0);
  return (
    <Modal
      open
      width={640}
      title={`Start ${name}`}
      onCancel={close}
      okText={f?.confirm ? 'Yes, start it' : 'Start it'}
      okButtonProps={{ disabled: !ready, loading: start.isPending }}
      onOk={() => start.mutate()}
    >
      {form.error && <Trouble error={form.error} />}
      {f?.source && <Records source={f.source} value={records} change={setRecords} />}
      {(f?.ask ?? []).map((q) => (
        <div key={q.name} className="setting">
          <label htmlFor={`answer-${q.name}`}>
            {q.label}
            {q.required && <span className="muted"> (required)</span>}
          </label>
          <Answer q={q} value={answers[q.name]} change={(v) => setAnswers({ ...answers, [q.name]: v })} />
          {q.help && <p className="muted small">{q.help}</p>}
        </div>
      ))}
      {f?.form === 'called' && <CallToken id={id} address={f.address} made={f.token} />}
      {start.error && <Trouble error={start.error} />}
      {f?.confirm && <p className="confirm">{f.confirm}</p>}
    </Modal>
  );
}

const empty = (v: unknown) => v === undefined || v === '' || (Array.isArray(v) && v.length === 0);

function Records({
  source,
  value,
  change,
}: {
  source: string;
  value: string[];
  change: (keys: string[]) => void;
}) {
  const [q, setQ] = useState('');
  const list = useRecords(source, q);
  const items = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <div className="setting">
      <label htmlFor="start-records">
        For which records <span className="muted">of {source}</span>
      </label>
      <Several
        id="start-records"

        showSearch={{ filterOption: false, onSearch: setQ }}
        value={value}
        placeholder="Search and choose"
        notFoundContent={list.isFetching ? 'Looking …' : 'No record is called so'}
        options={items.map((r) => ({ value: r.key, label: r.title ? `${r.key}, ${r.title}` : r.key }))}
        onChange={(keys: string[]) => change(keys)}
      />
    </div>
  );
}

function Answer({ q, value, change }: { q: Question; value: unknown; change: (v: unknown) => void }) {
  const id = `answer-${q.name}`;
  const options = (q.options ?? []).map((o) => ({ value: o, label: o }));
  switch (q.type) {
    case 'yes/no':
      return (
        <Checkbox id={id} checked={value === true} onChange={(e) => change(e.target.checked)}>
          yes
        </Checkbox>
      );
    case 'choice':
      return <Select id={id} value={value as string} options={options} onChange={change} />;
    case 'choices':
      return <Several id={id} value={value as string[]} options={options} onChange={change} />;
  }
  const kind = q.type === 'date' ? 'date' : q.type === 'moment' ? 'datetime-local' : 'text';
  return (
    <Input
      id={id}
      type={kind}
      value={String(value ?? '')}
      inputMode={q.type === 'number' ? 'decimal' : q.type === 'whole number' ? 'numeric' : undefined}
      onChange={(e) => change(e.target.value)}
    />
  );
}

function CallToken({ id, address, made }: { id: number; address: string; made: boolean }) {
  const make = useAct(
    () => answerOf(api.POST('/api/workflows/{id}/call-token', { params: { path: { id } } })),
    [],
  );
  const token = make.data?.token;
  return (
    <div className="setting">
      <p>
        It can be called at{' '}
        <Typography.Text className="mono" copyable>
          {address}
        </Typography.Text>
      </p>
      {token ? (
        <p>
          with this token, which is not shown again:{' '}
          <Typography.Text className="mono" copyable>
            {token}
          </Typography.Text>
          <br />
          <Typography.Text
            className="mono small"
            copyable
          >{`curl -H 'Authorization: Bearer ${token}' -H 'Content-Type: application/json' -d '{}' ${address}`}</Typography.Text>
        </p>
      ) : (
        <Button size="small" loading={make.isPending} onClick={() => make.mutate()}>
          {made ? 'Make a new token; the old one ends' : 'Make a token for calls'}
        </Button>
      )}
    </div>
  );
}
