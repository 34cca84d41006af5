import { useQuery, useQueryClient } from '@tanstack/react-query';
import { App, Button, Drawer, Dropdown } from 'antd';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, answerOf, type WorkflowDetail, wordsOf } from '../../api/client';
import { makeWorkflow, useShares, useTeams } from '../../api/queries';
import { SharedPage } from '../../parts/SharedPage';
import { Trouble } from '../../parts/Trouble';
import { fullOf } from '../../parts/times';
import { Changes } from './Changes';
import type { useDraft } from './useDraft';

/** How many shared pages are listed at the sheet. */
const sharesShown = 200;

interface Props {
  work: ReturnType<typeof useDraft>;
  workflow: WorkflowDetail;
  viewer: boolean;
}

/** What is seldom done to a workflow: its versions, a copy, a file of it. */
export function SheetMore({ work, workflow: w, viewer }: Props) {
  const [versions, setVersions] = useState(false);
  const [shares, setShares] = useState(false);
  const { message } = App.useApp();
  const go = useNavigate();
  const cache = useQueryClient();
  const teams = useTeams();
  const fresh = async () => {
    await work.flush();
    return answerOf(api.GET('/api/workflows/{id}', { params: { path: { id: w.id } } }));
  };
  const copy = async () => {
    const now = await fresh();
    if (!now.sheet)
      return void message.warning('The text has to be readable as a sheet before it can be copied.');
    const sheet = { ...now.sheet, name: `Copy of ${now.name}` };
    const made = await makeWorkflow(sheet);
    void message.success(`This is the copy. It is off.`);
    await go(`/workflows/${made.id}`);
  };
  const save = async () => {
    const now = await fresh();
    const url = URL.createObjectURL(new Blob([now.text], { type: 'application/yaml' }));
    const a = document.createElement('a');
    a.href = url;
    a.download = `${now.name.toLowerCase().replace(/[^\p{L}\p{N}]+/gu, '-')}.yaml`;
    a.click();
    URL.revokeObjectURL(url);
  };
  const hand = (team: number | null) => async () => {
    await answerOf(api.PATCH('/api/workflows/{id}', { params: { path: { id: w.id } }, body: { team } }));
    await cache.invalidateQueries({ queryKey: ['workflows'] });
    void message.success(
      team === null
        ? 'Every editor may change it now.'
        : 'It belongs to that team now, whose people may change it.',
    );
  };
  const run = (act: () => Promise<void>) => () => void act().catch((e: unknown) => message.error(wordsOf(e)));
  const mark = (team: number | null) => (team === w.team ? '● ' : '');
  const belongs = [
    { key: 'everyone', label: `${mark(null)}every editor`, onClick: run(hand(null)) },
    ...(teams.data?.items ?? []).map((t) => ({
      key: String(t.id),
      label: mark(t.id) + t.name,
      onClick: run(hand(t.id)),
    })),
  ];
  return (
    <>
      <Dropdown
        trigger={['click']}
        menu={{
          items: [
            {
              key: 'versions',
              label: 'Versions',
              onClick: () => void work.flush().then(() => setVersions(true)),
            },
            { key: 'shares', label: 'Shared pages', onClick: () => setShares(true) },
            ...(viewer ? [] : [{ key: 'copy', label: 'Make a copy', onClick: run(copy) }]),
            { key: 'save', label: 'Save as a file', onClick: run(save) },
            ...(viewer ? [] : [{ key: 'team', label: 'Belongs to', children: belongs }]),
          ],
        }}
      >
        <Button aria-label="More to do with this workflow">···</Button>
      </Dropdown>
      {shares && <SharedPages workflow={w} viewer={viewer} close={() => setShares(false)} />}
      {versions && <Versions work={work} workflow={w} viewer={viewer} close={() => setVersions(false)} />}
    </>
  );
}

/** The pages for people without an account that posts of the workflow have shared, the newest first. */
function SharedPages({
  workflow: w,
  viewer,
  close,
}: {
  workflow: WorkflowDetail;
  viewer: boolean;
  close: () => void;
}) {
  const list = useShares({ workflow: w.id, limit: sharesShown });
  const items = list.data?.items ?? [];
  return (
    <Drawer open title={`Pages shared by ${w.name}`} size="large" onClose={close}>
      {list.error && <Trouble error={list.error} again={() => void list.refetch()} />}
      {list.data && items.length === 0 && (
        <p className="muted">
          No post of this workflow has shared a page yet. A link of a message shares one where it names fields
          instead of an address.
        </p>
      )}
      {items.map((s) => (
        <section key={`${s.post}-${s.n}`} className="version">
          <h3>
            <Link to={`/arrivals/${s.arrival}`}>{s.title || s.text}</Link>
          </h3>
          <p className="muted small">shared {fullOf(s.made_at)}</p>
          <SharedPage share={s} editor={!viewer} />
        </section>
      ))}
      {items.length === sharesShown && (
        <p className="muted small">
          These are the newest {sharesShown}. Older ones stand at their posts in the outbox.
        </p>
      )}
    </Drawer>
  );
}

function Versions({ work, workflow: w, viewer, close }: Props & { close: () => void }) {
  const { message } = App.useApp();
  const list = useQuery({
    queryKey: ['versions', w.id],
    staleTime: 0,
    queryFn: () => answerOf(api.GET('/api/workflows/{id}/versions', { params: { path: { id: w.id } } })),
  });
  const back = async (text: string, version: number) => {
    const next = await answerOf(
      api.PUT('/api/workflows/{id}/draft', { params: { path: { id: w.id } }, body: { text } }),
    );
    work.set(next);
    work.back(next);
    close();
    void message.success(`The draft is version ${version} again. It holds once you switch it on.`);
  };
  return (
    <Drawer open title={`Versions of ${w.name}`} size="large" onClose={close}>
      {list.error && <Trouble error={list.error} again={() => void list.refetch()} />}
      {w.changed && w.version > 0 && (
        <section className="version">
          <h3>Draft, not on</h3>
          <Changes list={w.changes ?? []} />
        </section>
      )}
      {(list.data?.items ?? []).map((v) => (
        <section key={v.version} className="version" data-version={v.version}>
          <h3>
            Version {v.version}
            {w.on && v.version === w.version && <span className="good"> ● on</span>}
          </h3>
          <p className="muted small">
            {fullOf(v.at)}
            {v.by && ` by ${v.by}`}
          </p>
          {v.note && <p>{v.note}</p>}
          {v.version > 1 && <Changes list={v.changes ?? []} />}
          {!viewer && (
            <Button
              size="small"
              onClick={() => void back(v.text, v.version).catch((e: unknown) => message.error(wordsOf(e)))}
            >
              Back to version {v.version}
            </Button>
          )}
        </section>
      ))}
      {list.data?.items?.length === 0 && (
        <p className="muted">It has never been on, so there is no version yet.</p>
      )}
    </Drawer>
  );
}
