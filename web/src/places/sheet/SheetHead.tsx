import { useAct } from '../../api/act';
import { App, Button, Input } from 'antd';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, answerOf, type Problem, type Schemas, type WorkflowDetail } from '../../api/client';
import { useMe } from '../../api/queries';
import { Stamp } from '../../parts/Stamp';
import { StartDialog } from '../workflows/StartDialog';
import { SheetMore } from './SheetMore';
import { SwitchOnDialog } from './SwitchOnDialog';
import { formOf, type Sheet } from './model';
import type { useDraft } from './useDraft';
import { counted } from '../../parts/counted';

interface OnBody {
  note?: string;
  begin?: Schemas['BeginWorkflow'];
}

interface Props {
  work: ReturnType<typeof useDraft>;
  workflow: WorkflowDetail;
  problems: Problem[];
  sheet: Sheet | undefined;
  change: (next: Partial<Sheet>) => void;
  chosen: { seq: number; key: string } | undefined;
}

/** The sheet's name, how it stands, and the one commitment: switching on. */
export function SheetHead({ work, workflow: w, problems, sheet, change, chosen }: Props) {
  const [asking, setAsking] = useState(false);
  const [starting, setStarting] = useState(false);
  const { message } = App.useApp();
  const me = useMe();
  const viewer = me.data?.role === 'viewer';
  const errors = problems.filter((p) => !p.warning).length;
  const unfinished = problems.filter((p) => p.unfinished).length;
  const path = { params: { path: { id: w.id } } };
  const flip = useAct(
    async (on: OnBody | false) => {
      await work.flush();
      return answerOf(
        on
          ? api.POST('/api/workflows/{id}/on', { ...path, body: on })
          : api.POST('/api/workflows/{id}/off', path),
      );
    },
    [],
    (next) => {
      work.set(next);
      setAsking(false);
      void message.success(
        next.on ? `Version ${next.version} is on.` : 'Switched off. Nothing new will be told.',
      );
    },
  );
  const changed = w.changed || work.saving !== 'saved';
  const label = !w.on ? 'Switch on' : changed ? `Switch on as version ${w.version + 1}` : 'On';

  return (
    <div className="sheethead">
      <Link to="/workflows" className="back" aria-label="Back to all workflows">
        ‹
      </Link>
      <Stamp name={w.name} colour={sheet?.look?.colour} />
      {sheet && <h1 className="unseen">{sheet.name}</h1>}
      {sheet ? (
        <Input
          className="sheetname"
          variant="borderless"
          aria-label="Name of the workflow"
          value={sheet.name}
          readOnly={viewer}
          onChange={(e) => change({ name: e.target.value })}
        />
      ) : (
        <h1 className="sheetname">{w.name}</h1>
      )}
      <span className="sheetstate" role="status">
        <State
          saving={work.saving}
          errors={errors}
          unfinished={unfinished}
          on={w.on}
          version={w.version}
          changed={w.changed}
        />
      </span>
      {!viewer && (
        <Button aria-label="Undo the last edit" title="Undo the last edit (Ctrl+Z)" onClick={work.undo}>
          ↶
        </Button>
      )}
      <Rehearse work={work} id={w.id} errors={errors} />
      <TextSwitch work={work} workflow={w} sheet={sheet} />
      <SheetMore work={work} workflow={w} viewer={viewer} />
      {!viewer && w.on && (w.form === 'start' || w.form === 'called') && (
        <Button onClick={() => setStarting(true)}>Start…</Button>
      )}
      {starting && <StartDialog id={w.id} name={w.name} close={() => setStarting(false)} />}
      {!viewer && w.on && (
        <Button onClick={() => flip.mutate(false)} loading={flip.isPending && flip.variables === false}>
          Switch off
        </Button>
      )}
      {!viewer && (
        <Button
          type="primary"
          disabled={errors > 0 || (w.on && !changed)}
          loading={flip.isPending && flip.variables !== false}
          onClick={() => void work.flush().then(() => setAsking(true))}
        >
          {label}
        </Button>
      )}
      {asking && (
        <SwitchOnDialog
          workflow={w}
          past={formOf(sheet?.watch) === '' && !w.on}
          chosen={chosen}
          on={(body) => flip.mutate(body)}
          busy={flip.isPending}
          close={() => setAsking(false)}
        />
      )}
    </div>
  );
}

/** Goes to the rehearsal of the draft as it stands. */
function Rehearse({ work, id, errors }: { work: Props['work']; id: number; errors: number }) {
  const go = useNavigate();
  return (
    <Button
      disabled={errors > 0}
      onClick={() => void work.flush().then(() => go(`/workflows/${id}/rehearsal`))}
    >
      Rehearse
    </Button>
  );
}

function TextSwitch({ work, workflow, sheet }: Pick<Props, 'work' | 'workflow' | 'sheet'>) {
  const { message } = App.useApp();
  const toText = async () => {
    await work.flush();
    const fresh = await answerOf(api.GET('/api/workflows/{id}', { params: { path: { id: workflow.id } } }));
    work.reset({ ...fresh, sheet: null });
  };
  const toSheet = async () => {
    await work.flush();
    const fresh = await answerOf(api.GET('/api/workflows/{id}', { params: { path: { id: workflow.id } } }));
    if (fresh.sheet) work.reset(fresh);
    else void message.warning('The text cannot be read as a sheet yet.');
  };
  return (
    <Button onClick={() => void (sheet ? toText() : toSheet())}>{sheet ? 'As text' : 'As a sheet'}</Button>
  );
}

interface StateProps {
  saving: Props['work']['saving'];
  errors: number;
  unfinished: number;
  on: boolean;
  version: number;
  changed: boolean;
}

function State({ saving, errors, unfinished, on, version, changed }: StateProps) {
  if (typeof saving === 'object') return <span className="bad">Not saved: {saving.failed}</span>;
  const kept = saving === 'saving' ? 'saving…' : 'draft saved';
  const live = on
    ? `version ${version} is on`
    : version > 0
      ? `off (was version ${version})`
      : 'never on yet';
  return (
    <>
      <span className={on ? 'good' : 'muted'}>
        {on ? '● ' : '○ '}
        {live}
      </span>
      <span className="muted">
        {' '}
        · {on && changed ? 'draft differs, ' : ''}
        {kept}
      </span>
      {errors > 0 && <span className="bad"> · {counted(errors, 'error')}</span>}
      {unfinished > 0 && <span className="brass"> · {counted(unfinished, 'thing')} not finished</span>}
    </>
  );
}
