import { Button } from 'antd';
import { Link } from 'react-router';
import { useAct } from '../../api/act';
import { api, answerOf, type Schemas } from '../../api/client';
import { useAlert, useAsksOf, useMe } from '../../api/queries';
import { agoOf, clockOf, fullOf } from '../../parts/times';
import { Verdict } from '../../parts/Verdict';

type Deed = Schemas['DeedItem'];

/** What somebody did, in words. */
const deedWords: Record<Deed['what'], (d: Deed) => string> = {
  claimed: (d) => `${d.by} took it`,
  replied: (d) => `${d.by} answered: ${d.words}`,
  pressed: (d) => `${d.by} pressed “${d.words}”`,
  answered: (d) => `${d.by} answered ${d.name}: ${d.words}`,
  followed: (d) => `${d.name}: ${d.words}`,
  withdrawn: (d) => `${d.by} took the question ${d.name} back`,
  'handed over': (d) => `${d.by} handed ${d.name} over ${d.words}`,
  'let go': (d) => `${d.by} let go of it`,
  useful: (d) => `${d.by || 'Somebody'} found it useful`,
  'not for me': (d) => `${d.by || 'Somebody'} said that it was not for them`,
};

/** What people did with what a run told, who looks after it, and what waits for somebody to do something. */
export function RunAlert({ arrival, workflow, told }: { arrival: number; workflow: number; told: boolean }) {
  const me = useMe();
  const alert = useAlert(arrival, workflow);
  const asks = useAsksOf(arrival, workflow);
  const path = { params: { path: { arrival, workflow } } };
  const claim = useAct(() => answerOf(api.POST('/api/runs/{arrival}/{workflow}/claim', path)), ['runs']);
  const letGo = useAct(() => answerOf(api.DELETE('/api/runs/{arrival}/{workflow}/claim', path)), ['runs']);
  const a = alert.data;
  const questions = asks.data?.items ?? [];
  if (!a || (!told && questions.length === 0)) return null;
  const waits = a.waits ?? [];
  return (
    <section className="sent" aria-label="What became of it">
      <h2>What became of it</h2>
      {questions.map((q) => (
        <p key={q.id}>
          <Verdict is={q.state === 'open' ? 'asked' : q.state === 'decided' ? 'done' : 'dropped'} />{' '}
          <Link to={`/asked/${q.id}`}>{q.title || q.name}</Link>{' '}
          <span className="muted">
            {q.state === 'open'
              ? `waits for ${(q.open ?? []).join(', ')}${q.ends_at ? ` until ${fullOf(q.ends_at)}` : ''}`
              : q.answer
                ? `${q.answer.choice || 'nothing was chosen'}${q.answer.by ? `, by ${q.answer.by}` : ''}`
                : 'was taken back'}
          </span>
        </p>
      ))}
      <p className="inline">
        {a.claimed_by ? (
          <>
            <span>
              <b>{a.claimed_by}</b> looks after it{a.claimed_at && `, since ${clockOf(a.claimed_at)}`}.
            </span>
            {a.claimed_by === me.data?.name && (
              <Button size="small" loading={letGo.isPending} onClick={() => letGo.mutate()}>
                Let go of it
              </Button>
            )}
          </>
        ) : (
          told && (
            <>
              <span className="muted">Nobody looks after it.</span>
              <Button size="small" loading={claim.isPending} onClick={() => claim.mutate()}>
                I take it
              </Button>
            </>
          )
        )}
      </p>
      {waits.map((w) => (
        <p key={w.name + (w.due_at ?? '')} className="muted">
          ◔ {w.name}
          {w.due_at ? `, ${fullOf(w.due_at)}` : ', counted from when the first post is delivered'}
        </p>
      ))}
      {(a.deeds ?? []).length > 0 && (
        <ul className="deeds">
          {a.deeds!.map((d, i) => (
            <li key={i}>
              {deedWords[d.what](d)} <span className="muted small">{agoOf(d.at)}</span>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
