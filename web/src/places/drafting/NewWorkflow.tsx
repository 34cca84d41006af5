import './drafting.css';
import { App } from 'antd';
import { Link, useNavigate } from 'react-router';
import { makeWorkflow, useSources } from '../../api/queries';
import { Patterns } from './Patterns';
import { Sentence } from './Sentence';

/** Begins a workflow from a sentence or from a ready-made sheet. */
export function NewWorkflow() {
  const go = useNavigate();
  const { message } = App.useApp();
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
      <Patterns make={make} />
    </main>
  );
}
