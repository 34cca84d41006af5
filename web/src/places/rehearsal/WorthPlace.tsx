import './rehearsal.css';
import { useQuery } from '@tanstack/react-query';
import { Button, Popconfirm, Progress } from 'antd';
import { useEffect } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { useAct, useMayEdit } from '../../api/act';
import { api, answerOf, type Schemas, type WorkflowDetail } from '../../api/client';
import { counted } from '../../parts/counted';
import { Trouble } from '../../parts/Trouble';
import { Worth } from '../sheet/Worth';
import { Needed } from './Findings';
import { useRehearsal } from './useRehearsal';

/** What a workflow's alerts were worth, and how it could tell less: each proposal with its proof over what really came in. */
export function WorthPlace() {
  const id = Number(useParams().id);
  const mayEdit = useMayEdit();
  const path = { params: { path: { id } } };
  const workflow = useQuery({
    queryKey: ['workflow', id],
    queryFn: () => answerOf(api.GET('/api/workflows/{id}', path)),
    staleTime: 0,
  });
  const proposals = useQuery({
    queryKey: ['workflows', id, 'proposals'],
    queryFn: () => answerOf(api.GET('/api/workflows/{id}/proposals', path)),
    staleTime: 60_000,
  });
  const leave = useAct(() => answerOf(api.POST('/api/workflows/{id}/left', path)), ['today', 'workflows']);
  const error = workflow.error ?? proposals.error;
  if (error)
    return (
      <Trouble
        error={error}
        again={() => {
          void workflow.refetch();
          void proposals.refetch();
        }}
      />
    );
  const w = workflow.data;
  const p = proposals.data;
  if (!w || !p) return null;
  const items = p.items ?? [];
  return (
    <main className="place rehearsal" id="place">
      <div className="place-head">
        <Link to={`/workflows/${id}`} className="back" aria-label="Back to the sheet">
          ‹
        </Link>
        <h1>Is {w.name} worth it?</h1>
      </div>
      <p className="lead">
        {p.alerts === 0
          ? `Version ${w.version} has told nothing in the last ${p.days} days.`
          : `In ${p.days} days version ${w.version} told of ${counted(p.alerts, 'record or moment', 'records and moments')}; ${p.led === 0 ? 'nobody made use of any' : `people made use of ${p.led}`}.`}
      </p>
      <Worth workflow={id} open />
      {items.map((item) => (
        <OneProposal key={item.kind + item.path} item={item} workflow={w} days={p.days} mayEdit={mayEdit} />
      ))}
      {items.length === 0 && (
        <p className="muted">
          {p.alerts < 5
            ? 'Too little has been told to propose anything.'
            : 'No bound or value tells apart what was of use from what was not. Look at the whole in a rehearsal, or switch it off.'}
        </p>
      )}
      <p>
        {p.left ? (
          <span className="muted">It is left as it is; Today does not name it for now.</span>
        ) : (
          mayEdit && (
            <Button loading={leave.isPending} onClick={() => leave.mutate()}>
              Leave it as it is
            </Button>
          )
        )}
      </p>
    </main>
  );
}

interface ProposalProps {
  item: Schemas['Proposal'];
  workflow: WorkflowDetail;
  days: number;
  mayEdit: boolean;
}

function OneProposal({ item, workflow: w, days, mayEdit }: ProposalProps) {
  const go = useNavigate();
  const { run, start } = useRehearsal();
  useEffect(() => {
    const from = new Date(Date.now() - days * 86_400_000).toISOString();
    void start({ sheet: item.sheet, text: '', workflow: w.id, from });
    // Each proposal is proved once; the sheet that it is made of does not change while one is here.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);
  const draft = useAct(
    () =>
      answerOf(
        api.PUT('/api/workflows/{id}/draft', {
          params: { path: { id: w.id } },
          body: { sheet: item.sheet, seen: w.mark },
        }),
      ),
    ['workflow', 'workflows'],
    () => go(`/workflows/${w.id}`),
  );
  const sums = run.state === 'none' ? undefined : run.sums;
  const take = (
    <Button
      type="primary"
      loading={draft.isPending}
      {...(w.changed ? {} : { onClick: () => draft.mutate() })}
    >
      Make it the draft
    </Button>
  );
  return (
    <section className="band proposal" aria-label={item.words}>
      <h2 className="band-label">{kinds[item.kind]}</h2>
      <div className="band-body">
        <p>
          <strong>{item.words}</strong>
        </p>
        <p className="muted">{item.because}</p>
        {run.state === 'running' && (
          <Progress
            percent={sums?.of ? Math.round((100 * sums.at) / sums.of) : 0}
            size="small"
            showInfo={false}
            aria-label={`How far the proof of ${item.words} is`}
          />
        )}
        {run.state === 'failed' && <p className="bad">✕ {run.error}</p>}
        {run.state === 'done' && sums && (
          <>
            <p data-testid="proof">
              Over the last {days} days: <b>{sums.sums.posts}</b> {sums.sums.posts === 1 ? 'post' : 'posts'}{' '}
              instead of <b>{sums.sums.was}</b>.
            </p>
            <Needed sums={sums.sums} />
          </>
        )}
        {mayEdit && w.changed && (
          <Popconfirm
            title="The draft has changes that are not switched on."
            description="They would be replaced by this proposal."
            okText="Replace them"
            cancelText="Keep the draft"
            onConfirm={() => draft.mutate()}
          >
            {take}
          </Popconfirm>
        )}
        {mayEdit && !w.changed && take}
      </div>
    </section>
  );
}

const kinds: Record<string, string> = {
  threshold: 'Move the bound',
  narrow: 'Add a bound',
  'leave out': 'Leave some out',
  digest: 'Tell it together',
};
