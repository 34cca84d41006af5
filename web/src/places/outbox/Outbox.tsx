import { useMutation, useQueryClient } from '@tanstack/react-query';
import { App, Button, Select } from 'antd';
import { Link, useSearchParams } from 'react-router';
import { api, said, type PostItem } from '../../api/client';
import { useDestinations, useMe, usePosts, type PostFilter } from '../../api/queries';
import { More } from '../../parts/More';
import { Trouble } from '../../parts/Trouble';
import { Verdict } from '../../parts/Verdict';
import { clockOf, dayOf, fullOf } from '../../parts/times';

const states = ['waiting', 'sent', 'refused', 'given up', 'dropped', 'expired'];

export function Outbox() {
  const [params, setParams] = useSearchParams();
  const filter: PostFilter = {
    state: (params.get('state') as PostFilter['state']) || undefined,
    destination: params.get('destination') || undefined,
  };
  const posts = usePosts(filter);
  const destinations = useDestinations();
  const set = (name: string, value: string | undefined) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  const items = posts.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const paused = (destinations.data?.items ?? []).filter((d) => d.paused);
  return (
    <main className="place" id="place">
      <div className="place-head">
        <h1>Outbox</h1>
        <Select
          aria-label="State"
          allowClear
          className="op-select"
          placeholder="Every state"
          value={filter.state}
          options={states.map((v) => ({ value: v, label: v }))}
          onChange={(v) => set('state', v)}
        />
        <Select
          aria-label="Destination"
          allowClear
          className="wide-select"
          placeholder="Every destination"
          value={filter.destination}
          options={(destinations.data?.items ?? []).map((d) => ({ value: d.name, label: d.name }))}
          onChange={(v) => set('destination', v)}
        />
      </div>
      {paused.map((d) => (
        <Paused key={d.name} name={d.name} reason={d.reason} waiting={d.waiting} />
      ))}
      {posts.error && <Trouble error={posts.error} again={() => void posts.refetch()} />}
      <table className="ledger">
        <thead>
          <tr>
            <th>State</th>
            <th>When</th>
            <th>Destination</th>
            <th>Message</th>
            <th>Workflow</th>
            <th>Answer</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {items.map((p) => (
            <PostRow key={p.id} p={p} />
          ))}
        </tbody>
      </table>
      {posts.data && items.length === 0 && <p className="muted">No post fits.</p>}
      <More of={posts} />
    </main>
  );
}

function Paused({ name, reason, waiting }: { name: string; reason: string; waiting: number }) {
  const cache = useQueryClient();
  const me = useMe();
  const resume = useMutation({
    mutationFn: () => said(api.POST('/api/destinations/resume', { body: { name } })),
    onSettled: () =>
      Promise.all(['posts', 'destinations', 'today'].map((k) => cache.invalidateQueries({ queryKey: [k] }))),
  });
  return (
    <div className="paused" role="status">
      <div>
        <strong>{name} is paused.</strong> It answered: {reason}
        <div className="muted">
          {waiting} more wait behind the refused one, in order. Mend what is wrong, then send.
        </div>
      </div>
      {me.data?.role !== 'viewer' && (
        <Button type="primary" loading={resume.isPending} onClick={() => resume.mutate()}>
          Send what waited
        </Button>
      )}
    </div>
  );
}

function PostRow({ p }: { p: PostItem }) {
  const cache = useQueryClient();
  const { message, modal } = App.useApp();
  const me = useMe();
  const path = { params: { path: { id: p.id } } };
  const act = useMutation({
    mutationFn: (what: 'again' | 'drop') =>
      said(
        what === 'again' ? api.POST('/api/posts/{id}/again', path) : api.POST('/api/posts/{id}/drop', path),
      ),
    onSettled: () => cache.invalidateQueries({ queryKey: ['posts'] }),
    onError: (e) => void message.error(e.message),
  });
  const drop = () =>
    modal.confirm({
      title: 'Drop this post?',
      content: `${p.destination} will not be told. The post stays in the outbox and can be sent again.`,
      okText: 'Drop it',
      onOk: () => act.mutateAsync('drop').catch(() => undefined),
    });
  const editor = me.data?.role !== 'viewer';
  return (
    <tr>
      <td>
        <Verdict is={p.state} />
      </td>
      <td className="when" title={fullOf(p.created_at)}>
        {dayOf(p.created_at)} {clockOf(p.created_at)}
      </td>
      <td>{p.destination}</td>
      <td>
        <Link to={`/arrivals/${p.arrival}`}>{p.title || p.plain}</Link>
        {p.under != null && <span className="muted small"> in the thread</span>}
        {p.updates != null && <span className="muted small"> puts an earlier post up to date</span>}
      </td>
      <td>
        <Link to={`/workflows/${p.workflow_id}`}>{p.workflow}</Link>
      </td>
      <td className="small">
        {p.state !== 'sent' && p.answer}
        {p.attempts > 1 && <span className="muted"> {p.attempts} attempts</span>}
      </td>
      <td>
        {editor && ['refused', 'given up', 'dropped', 'expired'].includes(p.state) && (
          <Button size="small" loading={act.isPending} onClick={() => act.mutate('again')}>
            Send again
          </Button>
        )}
        {editor && ['waiting', 'refused'].includes(p.state) && (
          <Button size="small" type="text" onClick={() => void drop()}>
            Drop
          </Button>
        )}
      </td>
    </tr>
  );
}
