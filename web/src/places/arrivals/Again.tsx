import { useAct } from '../../api/act';
import { Button } from 'antd';
import { api, answerOf, type Schemas } from '../../api/client';
import { Verdict } from '../../parts/Verdict';
import { WhyOne } from './WhyOne';

/** The arrival decided again, by the versions that are on now. Nothing is sent. */
export function Again({ id, then }: { id: number; then: Schemas['Why'][] }) {
  const again = useAct(
    () => answerOf(api.POST('/api/arrivals/{id}/again', { params: { path: { id } } })),
    [],
  );
  const now = again.data?.why;
  const was = new Map(then.map((w) => [w.workflow_id, w]));
  return (
    <div className="decide-again">
      <div className="inline">
        <Button size="small" loading={again.isPending} onClick={() => again.mutate()}>
          Decide again
        </Button>
        <span className="muted small">as it would be decided now; nothing is sent</span>
        {now && (
          <Button size="small" type="text" onClick={() => again.reset()}>
            Close
          </Button>
        )}
      </div>
      {now && (
        <section aria-label="As it would be decided now" className="decided-now">
          {now.length === 0 && <p className="muted">No workflow that is on would look at it.</p>}
          {now.map((w) => {
            const before = was.get(w.workflow_id);
            const same = before && before.verdict === w.verdict && before.row === w.row;
            return (
              <div key={w.workflow_id}>
                <p className={same ? 'muted small' : 'brass small'}>
                  {before ? (
                    same ? (
                      'The same as then'
                    ) : (
                      <>
                        Then: <Verdict is={before.verdict} /> {before.row}
                      </>
                    )
                  ) : (
                    'Was not on then'
                  )}
                </p>
                <WhyOne why={w} arrival={id} />
              </div>
            );
          })}
        </section>
      )}
    </div>
  );
}
