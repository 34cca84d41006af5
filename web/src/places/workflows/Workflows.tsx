import { Listed } from '../../parts/Listed';
import './workflows.css';
import { Button, Switch } from 'antd';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { useAct, useMayEdit } from '../../api/act';
import { api, answerOf, type WorkflowItem } from '../../api/client';
import { makeWorkflow, useMe, useSources, useStarters, useWorkflows } from '../../api/queries';
import { DayBars } from '../../parts/DayBars';
import { Stamp } from '../../parts/Stamp';
import { Trouble } from '../../parts/Trouble';
import { agoOf, fullOf } from '../../parts/times';
import { StartDialog } from './StartDialog';
import { blankSheet } from '../sheet/model';
import { counted } from '../../parts/counted';

export function Workflows() {
  const workflows = useWorkflows();
  const go = useNavigate();
  const mayEdit = useMayEdit();
  const starters = useStarters();
  const create = useAct(
    () => makeWorkflow(blankSheet('New workflow', starters)),
    ['workflows'],
    (w) => void go(`/workflows/${w.id}`),
    'in place',
  );
  const items = workflows.data?.items ?? [];
  return (
    <main className="place" id="place">
      <div className="place-head">
        <h1>Workflows</h1>
        <p className="lead">
          {workflows.data &&
            `${items.filter((w) => w.on).length} on, ${items.filter((w) => !w.on).length} off`}
        </p>
        {mayEdit && (
          <Button
            type="primary"
            disabled={!starters.ready}
            loading={create.isPending}
            onClick={() => create.mutate()}
          >
            New workflow
          </Button>
        )}
        {mayEdit && <Button onClick={() => void go('/workflows/new')}>From a sentence or a pattern</Button>}
      </div>
      {create.error && <Trouble error={create.error} />}
      <table className="ledger workflows">
        <thead>
          <tr>
            <th>On</th>
            <th>Workflow</th>
            <th>Watches</th>
            <th>Tells</th>
            <th>Last 14 days</th>
            <th>Last told</th>
            <th>Version</th>
          </tr>
        </thead>
        <tbody>
          {items.map((w) => (
            <Row key={w.id} w={w} />
          ))}
        </tbody>
      </table>
      <Listed of={workflows} count={items.length}>
        <Empty />
      </Listed>
    </main>
  );
}

function Row({ w }: { w: WorkflowItem }) {
  const mayEdit = useMayEdit();
  const [starting, setStarting] = useState(false);
  const me = useMe();
  const flip = useAct(
    (on: boolean) => {
      const params = { params: { path: { id: w.id } } };
      return answerOf(
        on
          ? api.POST('/api/workflows/{id}/on', { ...params, body: {} })
          : api.POST('/api/workflows/{id}/off', params),
      );
    },
    ['workflows'],
  );
  const tells = w.tells ?? [];
  return (
    <tr className={w.on ? '' : 'is-off'}>
      <td>
        <Switch
          size="small"
          checked={w.on}
          disabled={me.data?.role === 'viewer'}
          loading={flip.isPending}
          aria-label={`${w.name} is ${w.on ? 'on' : 'off'}`}
          onChange={(on) => flip.mutate(on)}
        />
        <span className="onoff">{w.on ? 'on' : 'off'}</span>
      </td>
      <td>
        <div className="named">
          <Stamp name={w.name} colour={w.colour} />
          <div>
            <Link to={`/workflows/${w.id}`}>{w.name}</Link>
            {w.note && <div className="muted small">{w.note}</div>}
          </div>
        </div>
      </td>
      <td>
        <div>{w.source}</div>
        <div className="muted small">{w.watches}</div>
        {w.on && (w.form === 'start' || w.form === 'called') && mayEdit && (
          <Button size="small" onClick={() => setStarting(true)}>
            Start…
          </Button>
        )}
        {starting && <StartDialog id={w.id} name={w.name} close={() => setStarting(false)} />}
      </td>
      <td>{tells.map((t) => t.slice(t.indexOf('/') + 1)).join(', ')}</td>
      <td>
        <DayBars days={w.days ?? []} what="told" />
      </td>
      <td title={w.last_told ? fullOf(w.last_told) : ''}>{agoOf(w.last_told)}</td>
      <td>
        {w.version > 0 ? w.version : 'none'}
        {w.problems > 0 ? (
          <div className="bad small">draft has {counted(w.problems, 'error')}</div>
        ) : (
          w.changed && w.version > 0 && <div className="brass small">draft differs</div>
        )}
      </td>
    </tr>
  );
}

/** Where there is no workflow yet: what has to be there first, and where it is made. */
function Empty() {
  const sources = useSources();
  if (!sources.data) return null;
  const nothing = (sources.data.items ?? []).length === 0;
  return nothing ? (
    <p className="muted">
      No workflow yet, and nothing is connected that news could come from.{' '}
      <Link to="/connections/new">Connect something</Link> first; a workflow can be begun without, too.
    </p>
  ) : (
    <p className="muted">
      No workflow yet. <Link to="/workflows/new">Begin with a sentence or a pattern</Link>.
    </p>
  );
}
