import './rehearsal.css';
import { useQuery } from '@tanstack/react-query';
import { App, Button, DatePicker, Progress, Segmented } from 'antd';
import type { Dayjs } from 'dayjs';
import { useEffect, useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, answerOf, type WorkflowDetail, wordsOf } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { Findings } from './Findings';
import { saveOutcomes, useRehearsal, type Stretch } from './useRehearsal';
import { counted } from '../../parts/counted';

const DAY = 86_400_000;
const stretches = { day: 1, week: 7, month: 30, all: 0 } as const;
type Choice = keyof typeof stretches | 'chosen';

/** The whole workflow over what really came in, with a virtual clock; nothing is sent. */
export function RehearsalPlace() {
  const id = Number(useParams().id);
  const workflow = useQuery({
    queryKey: ['workflow', id],
    queryFn: () => answerOf(api.GET('/api/workflows/{id}', { params: { path: { id } } })),
    staleTime: 0,
  });
  if (workflow.error) return <Trouble error={workflow.error} again={() => void workflow.refetch()} />;
  if (!workflow.data || workflow.isFetching) return null;
  return <Stage key={id} workflow={workflow.data} />;
}

function Stage({ workflow: w }: { workflow: WorkflowDetail }) {
  const { message } = App.useApp();
  const { run, start, stop } = useRehearsal();
  const [choice, setChoice] = useState<Choice>('month');
  const [days, setDays] = useState<[Dayjs | null, Dayjs | null] | null>(null);
  const stretch = (): Stretch => {
    if (choice === 'chosen')
      return {
        from: days?.[0]?.startOf('day').toISOString(),
        to: days?.[1]?.endOf('day').toISOString(),
      };
    const n = stretches[choice];
    return n ? { from: new Date(Date.now() - n * DAY).toISOString() } : {};
  };
  const about = () => ({ sheet: w.sheet, text: w.text, workflow: w.id, ...stretch() });
  useEffect(() => {
    if (choice !== 'chosen' || (days?.[0] && days[1])) void start(about());
    // The sheet does not change while one is here.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [choice, days]);
  const sums = run.state === 'none' ? undefined : run.sums;
  const save = (as: 'jsonl' | 'csv') =>
    saveOutcomes(about(), as).catch((e: unknown) => void message.error(wordsOf(e)));
  const part =
    run.state === 'done' ? 100 : sums ? (sums.of ? Math.round((100 * sums.at) / sums.of) : 100) : 0;
  return (
    <main className="place rehearsal" id="place">
      <div className="place-head">
        <Link to={`/workflows/${w.id}`} className="back" aria-label="Back to the sheet">
          ‹
        </Link>
        <h1>Rehearsal of {w.name}</h1>
        <Segmented
          aria-label="Over which stretch"
          value={choice}
          options={[
            { value: 'day', label: 'Last day' },
            { value: 'week', label: 'Week' },
            { value: 'month', label: '30 days' },
            { value: 'all', label: 'Everything' },
            { value: 'chosen', label: 'Chosen days' },
          ]}
          onChange={(c) => setChoice(c as Choice)}
        />
        {choice === 'chosen' && (
          <DatePicker.RangePicker aria-label="Days" value={days} onChange={(d) => setDays(d)} />
        )}
        <span className="rehearsal-tools">
          {run.state === 'running' ? (
            <Button onClick={stop}>Stop</Button>
          ) : (
            <Button onClick={() => void start(about())}>Again</Button>
          )}
          <Button disabled={run.state !== 'done'} onClick={() => void save('jsonl')}>
            JSON Lines
          </Button>
          <Button disabled={run.state !== 'done'} onClick={() => void save('csv')}>
            CSV
          </Button>
        </span>
      </div>
      <div className="rehearsal-progress" role="status">
        <Progress
          percent={part}
          showInfo={false}
          size="small"
          status={run.state === 'failed' ? 'exception' : run.state === 'done' ? 'success' : 'normal'}
          aria-label="How far the rehearsal is"
        />
        <span className="muted">
          {run.state === 'running' && `${sums?.at ?? 0} of ${sums?.of ?? '…'} arrivals`}
          {run.state === 'done' &&
            `${sums?.of === 1 ? 'The one arrival' : `All ${counted(sums?.of ?? 0, 'arrival')}`}. Nothing was sent.`}
          {run.state === 'stopped' && `Stopped after ${counted(sums?.at ?? 0, 'arrival')}.`}
          {run.state === 'failed' && <b className="bad">✕ {run.error}</b>}
        </span>
      </div>
      {sums && <Findings sums={sums.sums} version={w.on ? w.version : 0} />}
    </main>
  );
}
