import './drafting.css';
import { useQuery } from '@tanstack/react-query';
import { App } from 'antd';
import { Link, useNavigate } from 'react-router';
import { api, answerOf } from '../../api/client';
import { makeWorkflow, useSources } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { PatternCard } from './PatternCard';
import { Sentence } from './Sentence';

/** Begins a workflow from a sentence or from a ready-made sheet. */
export function NewWorkflow() {
  const go = useNavigate();
  const { message } = App.useApp();
  const patterns = useQuery({
    queryKey: ['patterns'],
    queryFn: () => answerOf(api.GET('/api/patterns')),
    staleTime: Infinity,
  });
  const sources = useSources();
  const nothing = sources.data !== undefined && (sources.data.items ?? []).length === 0;
  const make = async (sheet: unknown) => {
    try {
      const w = await makeWorkflow(sheet as { name?: string });
      await go(`/workflows/${w.id}`);
    } catch (e) {
      void message.error(e instanceof Error ? e.message : 'That could not be made.');
    }
  };
  return (
    <main className="place" id="place">
      <div className="place-head">
        <h1>A new workflow</h1>
        <p className="lead">
          Say it in a sentence, or begin with a pattern. It is off until you switch it on.
        </p>
      </div>
      {nothing && (
        <p className="muted">
          Nothing is connected yet that news could come from.{' '}
          <Link to="/connections/new">Connect something</Link> first: a sentence and a pattern speak of its
          records.
        </p>
      )}
      <Sentence make={make} />
      <section className="band">
        <h2 className="band-label">Patterns</h2>
        {patterns.error && <Trouble error={patterns.error} again={() => void patterns.refetch()} />}
        <ul className="patterns">
          {(patterns.data?.items ?? []).map((p) => (
            <PatternCard key={p.name} pattern={p} make={make} />
          ))}
        </ul>
      </section>
    </main>
  );
}
