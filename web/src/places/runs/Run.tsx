import './runs.css';
import { useMemo } from 'react';
import { Link, useParams } from 'react-router';
import { useFields, useRun, useWords } from '../../api/queries';
import { LaterWords } from '../../parts/LaterWords';
import { AsItCame } from '../../parts/AsItCame';
import { Trouble } from '../../parts/Trouble';
import { Verdict } from '../../parts/Verdict';
import { fullOf } from '../../parts/times';
import { AskBand } from '../sheet/AskBand';
import { FollowBand } from '../sheet/FollowBand';
import { GatherBand } from '../sheet/GatherBand';
import { KeepBand } from '../sheet/KeepBand';
import { PaceBand } from '../sheet/PaceBand';
import { RouteBandView } from '../sheet/RouteBandView';
import { TellBand } from '../sheet/TellBand';
import { testNames } from '../sheet/names';
import { Findings, noSurroundings, Surroundings } from '../sheet/surroundings';
import { sourceOf, withRoute, type Sheet } from '../sheet/model';
import { WatchBand } from '../sheet/watch/WatchBand';
import { RunAlert } from './RunAlert';
import { RunPosts, RunSteps } from './Sent';
import { Times } from './Times';

const nothing = () => undefined;
const found = { problems: [], counts: {}, seen: {} };

/** One run: what was sent and answered, and the sheet as it was with what each of its lines saw. */
export function Run() {
  const { arrival, workflow } = useParams();
  const run = useRun(Number(arrival), Number(workflow));
  const words = useWords();
  const written = run.data?.sheet as Sheet | undefined;
  const sheet = useMemo(() => written && withRoute(written), [written]);
  const source = sourceOf(sheet?.watch);
  const fields = useFields(source);
  const offered = fields.data?.items;
  const operators = words.data?.operators;
  const gathered = (sheet?.gather ?? []).map((g) => g.name).join(' ');
  const around = useMemo(
    () => ({
      ...noSurroundings,
      fields: offered ?? [],
      messages: Object.keys(sheet?.messages ?? {}),
      chips: offered ?? [],
      tests: testNames(offered ?? []),
      operators: operators ?? [],
      readOnly: true,
      names: gathered ? gathered.split(' ') : [],
      put: nothing,
    }),
    [offered, operators, gathered, sheet],
  );
  if (run.error) return <Trouble error={run.error} again={() => void run.refetch()} />;
  // What a chip is called depends on its field: nothing is shown before that is known.
  if (!run.data || (source.includes('/') && fields.isPending && !fields.isError)) return null;
  const { run: r, proof: p, posts, steps, arrival: a } = run.data;
  const proof = p ?? undefined;
  return (
    <main className="sheetplace run" id="place">
      <div className="place-head">
        <Link to={`/arrivals/${r.arrival}`} className="back" aria-label="Back to the arrival">
          ‹
        </Link>
        <h1>
          <Verdict is={r.verdict} /> {r.workflow} <span className="muted">on {r.key || a.kind}</span>
        </h1>
        <p className="lead">
          Version {r.version}
          {r.row && `, route ${r.row}`}
          <LaterWords later={r.later} at={r.later_at} />
          {r.because && `, not “${r.because}”`}.{' '}
          <Link to={`/workflows/${r.workflow_id}?arrival=${r.arrival}`}>The sheet as it is now</Link>
        </p>
      </div>
      {r.error && (
        <p className="bad">
          {r.where}: {r.error}
        </p>
      )}
      <Times run={run.data} />
      <AsItCame a={a} />
      <RunAlert arrival={r.arrival} workflow={r.workflow_id} told={(posts ?? []).length > 0} />
      <RunPosts posts={posts ?? []} />
      <RunSteps steps={steps ?? []} arrival={r.arrival} workflow={r.workflow_id} />
      <div className="run-head">
        <h2>The sheet as it was</h2>
        <p className="muted">
          Beside each line, what it saw of {r.key || 'the arrival'} at {fullOf(r.at)}.{' '}
          {(sheet?.gather ?? []).some((g) => g.value === undefined) &&
            (run.data.recalled
              ? 'What was gathered is what was found then.'
              : 'What was gathered then was not kept; it was looked up again for this page.')}
        </p>
      </div>
      {sheet ? (
        <Surroundings.Provider value={around}>
          <Findings.Provider value={found}>
            <WatchBand sheet={sheet} change={nothing} proof={proof} />
            <KeepBand sheet={sheet} change={nothing} proof={proof} />
            <GatherBand sheet={sheet} change={nothing} proof={proof} />
            <AskBand sheet={sheet} change={nothing} proof={proof} />
            <RouteBandView sheet={sheet} change={nothing} proof={proof} trail={[]} table={undefined} />
            <TellBand sheet={sheet} change={nothing} proof={proof} />
            <PaceBand sheet={sheet} change={nothing} trail={[]} />
            <FollowBand sheet={sheet} change={nothing} proof={proof} />
          </Findings.Provider>
        </Surroundings.Provider>
      ) : (
        <pre tabIndex={0}>{run.data.text}</pre>
      )}
    </main>
  );
}
