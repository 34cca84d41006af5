import './asked.css';
import { Button, Input, Popconfirm, Segmented, Select } from 'antd';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { useAct, useMayEdit } from '../../api/act';
import { api, answerOf, type Schemas } from '../../api/client';
import { useAsk, useAsks } from '../../api/queries';
import { MessageView } from '../../parts/MessageView';
import { More } from '../../parts/More';
import { agoOf, fullOf } from '../../parts/times';
import { Trouble } from '../../parts/Trouble';
import { Verdict } from '../../parts/Verdict';
import { TellTo } from '../sheet/TellTo';

type AskItem = Schemas['AskItem'];

/** Questions that workflows have put to people: those that wait for whoever looks, and all others. */
export function Asked() {
  const one = Number(useParams().id) || 0;
  const [of, setOf] = useState<'me' | 'all'>('me');
  const [state, setState] = useState<'open' | 'any'>('open');
  const asks = useAsks(of, state);
  const items = (asks.data?.pages ?? []).flatMap((p) => p.items ?? []);
  if (asks.error) return <Trouble error={asks.error} again={() => void asks.refetch()} />;
  return (
    <main className="place asked" id="place">
      <div className="place-head">
        <h1>Asked of you</h1>
        <p className="lead">Workflows wait here for a yes or a no. Whoever answers first decides.</p>
        <div className="inline">
          <Segmented
            aria-label="Whose questions"
            value={of}
            options={[
              { value: 'me', label: 'Yours' },
              { value: 'all', label: 'Everybody’s' },
            ]}
            onChange={setOf}
          />
          <Segmented
            aria-label="Which questions"
            value={state}
            options={[
              { value: 'open', label: 'Open' },
              { value: 'any', label: 'Ended, too' },
            ]}
            onChange={setState}
          />
        </div>
      </div>
      {one > 0 && !items.some((a) => a.id === one) && <Alone id={one} />}
      {items.map((a) => (
        <Question key={a.id} ask={a} open={a.id === one || (items.length === 1 && a.state === 'open')} />
      ))}
      {asks.data && items.length === 0 && one === 0 && (
        <p className="muted">
          {of === 'me'
            ? 'Nothing is asked of you at the moment. A question comes here when a workflow asks your address first.'
            : 'No question is open.'}
        </p>
      )}
      <More of={asks} />
    </main>
  );
}

function Alone({ id }: { id: number }) {
  const ask = useAsk(id);
  if (ask.error) return <Trouble error={ask.error} />;
  return ask.data ? <Question ask={ask.data} open /> : null;
}

/** One question: what is asked about, and the choices there are. */
function Question({ ask: a, open }: { ask: AskItem; open: boolean }) {
  const [shown, setShown] = useState(open);
  return (
    <section className="askedone" aria-label={a.title}>
      <button type="button" className="askedhead" aria-expanded={shown} onClick={() => setShown(!shown)}>
        <Verdict is={a.state === 'open' ? 'asked' : a.state === 'decided' ? 'done' : 'dropped'}>
          {a.state !== 'open' && a.answer ? `: ${a.answer.choice || 'nothing'}` : ''}
        </Verdict>
        <b>{a.title || a.name}</b>
        <span className="muted">
          {a.workflow}
          {a.key && `, ${a.key}`}, {agoOf(a.put_at)}
        </span>
      </button>
      {shown && <Opened ask={a} />}
    </section>
  );
}

function Opened({ ask }: { ask: AskItem }) {
  const whole = useAsk(ask.id);
  const a = whole.data ?? ask;
  return (
    <div className="askedbody">
      {a.doc && <MessageView doc={{ ...a.doc, buttons: null }} />}
      <p className="muted small">
        Asked {(a.asked ?? []).join(', ')}
        {a.all && ', who all have to agree'}.{' '}
        {a.state === 'open' &&
          (a.went_at
            ? `An answer is waited for until ${fullOf(a.ends_at ?? '')}.`
            : 'It waits for the opening hours.')}{' '}
        <Link to={`/runs/${a.arrival}/${a.workflow_id}`}>What it is about</Link>
      </p>
      {(a.given ?? []).map((g) => (
        <p key={g.place} className="small">
          {g.by}: <b>{choiceWords(a, g.choice)}</b> {g.comment}
        </p>
      ))}
      {a.answer && (
        <p>
          <b>{choiceWords(a, a.answer.choice) || 'Nothing was chosen'}</b>
          {a.answer.by ? `, by ${a.answer.by}` : ', since nobody answered in time'}, {fullOf(a.answer.at)}.{' '}
          {a.answer.comment && <q>{a.answer.comment}</q>}
        </p>
      )}
      {a.state === 'open' && a.went_at && <AnswerIt ask={a} />}
      {a.state === 'open' && <Exchange ask={a} />}
    </div>
  );
}

const choiceWords = (a: AskItem, name: string) =>
  (a.choices ?? []).find((c) => c.name === name)?.text ?? name;

const stale = ['asks', 'runs', 'today', 'arrivals'];

/** The choices, with a comment where one goes with them. */
function AnswerIt({ ask: a }: { ask: AskItem }) {
  const yours = a.yours ?? [];
  const [comment, setComment] = useState('');
  const [place, setPlace] = useState(yours[0] ?? '');
  const choices = a.choices ?? [];
  const answer = useAct(
    (choice: string) =>
      answerOf(
        api.POST('/api/asks/{id}/answer', {
          params: { path: { id: a.id } },
          body: { choice, comment, ...(place && { place }) },
        }),
      ),
    stale,
  );
  if (yours.length === 0)
    return <p className="muted">It was put to others: {(a.open ?? []).join(', ')} can answer.</p>;
  const wants = choices.some((c) => c.comment !== 'none');
  const needs = choices.filter((c) => c.comment === 'required');
  return (
    <div className="askedanswer">
      {yours.length > 1 && (
        <Select
          aria-label="For whom you answer"
          value={place}
          popupMatchSelectWidth={false}
          options={yours.map((value) => ({ value, label: `for ${value}` }))}
          onChange={setPlace}
        />
      )}
      {wants && (
        <Input.TextArea
          aria-label="Comment"
          placeholder={
            needs.length
              ? `A comment, which ${needs.map((c) => `“${c.text}”`).join(' and ')} needs`
              : 'A comment, if you like'
          }
          autoSize={{ minRows: 1, maxRows: 5 }}
          maxLength={2000}
          value={comment}
          onChange={(e) => setComment(e.target.value)}
        />
      )}
      <div className="inline">
        {choices.map((c, i) => (
          <Button
            key={c.name}
            type={i === 0 ? 'primary' : 'default'}
            loading={answer.isPending && answer.variables === c.name}
            disabled={c.comment === 'required' && comment.trim() === ''}
            onClick={() => answer.mutate(c.name)}
          >
            {c.text}
          </Button>
        ))}
      </div>
    </div>
  );
}

/** Having somebody else asked, or taking the question back. */
function Exchange({ ask: a }: { ask: AskItem }) {
  const editor = useMayEdit();
  const [from, setFrom] = useState(a.open?.[0] ?? '');
  const [to, setTo] = useState('');
  const [handing, setHanding] = useState(false);
  const hand = useAct(
    () =>
      answerOf(api.POST('/api/asks/{id}/hand-over', { params: { path: { id: a.id } }, body: { from, to } })),
    stale,
    () => setHanding(false),
  );
  const withdraw = useAct(
    () => answerOf(api.POST('/api/asks/{id}/withdraw', { params: { path: { id: a.id } } })),
    stale,
  );
  if (!editor) return null;
  return (
    <div className="inline muted">
      {handing ? (
        <>
          <span>instead of</span>
          <Select
            size="small"
            aria-label="Who is no longer asked"
            value={from}
            popupMatchSelectWidth={false}
            options={(a.open ?? []).map((value) => ({ value, label: value }))}
            onChange={setFrom}
          />
          <span>ask</span>
          <TellTo to={to} id={`hand-${a.id}`} label="Who is asked instead" change={setTo} />
          <Button
            size="small"
            type="primary"
            loading={hand.isPending}
            disabled={!to}
            onClick={() => hand.mutate()}
          >
            Ask them
          </Button>
          <Button size="small" onClick={() => setHanding(false)}>
            Leave it
          </Button>
        </>
      ) : (
        <>
          <Button size="small" type="link" onClick={() => setHanding(true)}>
            Ask somebody else
          </Button>
          <Popconfirm
            title="Take the question back? Nothing more is told of it."
            okText="Take it back"
            cancelText="Leave it"
            onConfirm={() => withdraw.mutate()}
          >
            <Button size="small" type="link" loading={withdraw.isPending}>
              Take it back
            </Button>
          </Popconfirm>
        </>
      )}
    </div>
  );
}
