import { Listed } from '../../parts/Listed';
import './connections.css';
import { useAct, useMayEdit } from '../../api/act';
import { App, Button, InputNumber, Radio, Select } from 'antd';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, answerOf, type SourceItem } from '../../api/client';
import {
  sourcePath,
  useFields,
  useKinds,
  useConnection,
  useConnections,
  useSources,
  useWorkflows,
  makeWorkflow,
  useStarters,
} from '../../api/queries';
import { RecordSearch } from '../../parts/RecordSearch';
import { Trouble } from '../../parts/Trouble';
import { Band } from '../../parts/Band';
import { blankSheet } from '../sheet/model';
import { StartDialog } from '../workflows/StartDialog';
import { FieldTable } from './FieldTable';
import { FormDesigner } from './FormDesigner';
import { HookReading } from './HookReading';
import { missing, SettingsForm } from './SettingsForm';
import { counted } from '../../parts/counted';

/** One source: its fields as they were learnt and corrected, its records, and how often it is asked. */
export function Source() {
  const { connection = '', kind = '' } = useParams();
  const name = `${connection}/${kind}`;
  const sources = useSources();
  const s = sources.data?.items?.find((x) => x.source === name);
  if (sources.error) return <Trouble error={sources.error} again={() => void sources.refetch()} />;
  if (!sources.data) return null;
  if (!s)
    return (
      <main className="place" id="place">
        <p>
          There is no source {name}. <Link to="/connections">All connections</Link>
        </p>
      </main>
    );
  return <Page key={s.source} s={s} />;
}

export type Change = (body: Record<string, unknown>) => void;

function Page({ s }: { s: SourceItem }) {
  const editor = useMayEdit();
  const fields = useFields(s.source);
  const save = useAct(
    (body: Record<string, unknown>) =>
      answerOf(
        api.PATCH('/api/sources/{connection}/{kind}', {
          params: { path: sourcePath(s.source) },
          body: body as never,
        }),
      ),
    ['sources', 'fields', 'connections', 'records'],
  );
  const items = fields.data?.items ?? [];
  const names = items.map((f) => ({ value: f.name, label: f.label }));
  return (
    <main className="place" id="place">
      <div className="place-head">
        <Link to={`/connections/${s.connection}`} className="back" aria-label="Back to its connection">
          ‹
        </Link>
        <h1>{s.title}</h1>
        <p className="lead mono small">{s.source}</p>
        {editor && <Begin s={s} />}
        {editor && <ToTable s={s} />}
      </div>
      <Band label="Record" hint="what names it">
        <div className="bandbody inline naming">
          {(
            [
              ['key_field', 'Its key'],
              ['title_field', 'Its title'],
              ['link_field', 'Its link'],
            ] as const
          ).map(([field, label]) => (
            <label key={field}>
              {label}{' '}
              <Select
                aria-label={label}
                className="naming-select"
                showSearch={{ optionFilterProp: 'label' }}
                disabled={!editor}
                value={s[field] || undefined}
                placeholder="none"
                allowClear={field !== 'key_field'}
                options={
                  names.some((n) => n.value === s[field]) || !s[field]
                    ? names
                    : [...names, { value: s[field], label: s[field] }]
                }
                onChange={(v?: string) => save.mutate({ [field]: v ?? '' })}
              />
            </label>
          ))}
        </div>
      </Band>
      <Band label="Fields" hint="as learnt and corrected">
        <div className="bandbody">
          <Listed of={fields} count={items.length}>
            <p className="muted">No record has come yet, so nothing is known of its fields.</p>
          </Listed>
          <FieldTable fields={items} editor={editor} change={(f) => save.mutate({ fields: f })} />
        </div>
      </Band>
      {s.poll && <Rhythm s={s} editor={editor} change={save.mutate} />}
      <Settings s={s} editor={editor} change={save.mutate} />
      <Band label="Records" hint="as they are now">
        <div className="bandbody">
          <Records source={s.source} editor={editor} />
        </div>
      </Band>
    </main>
  );
}

/** Begins a workflow on these records. */
function Begin({ s }: { s: SourceItem }) {
  const go = useNavigate();
  const starters = useStarters();
  const make = useAct(
    () => {
      const sheet = blankSheet(`New in ${s.title}`, { ...starters, source: s.source, key: s.key_field });
      sheet.watch.on = ['created'];
      return makeWorkflow(sheet);
    },
    [],
    (w) => void go(`/workflows/${w.id}`),
  );
  return (
    <Button type="primary" disabled={!starters.ready} loading={make.isPending} onClick={() => make.mutate()}>
      New workflow on these
    </Button>
  );
}

/** Makes a table for a form's answers, and drafts the workflow that has them go there. */
function ToTable({ s }: { s: SourceItem }) {
  const go = useNavigate();
  const connections = useConnections();
  const { channel } = useStarters();
  const { message } = App.useApp();
  const make = useAct(
    async () => {
      const made = await answerOf(
        api.POST('/api/sources/{connection}/{kind}/table', {
          params: { path: sourcePath(s.source) },
          body: { channel },
        }),
      );
      return { made, workflow: await makeWorkflow(made.sheet) };
    },
    ['sources', 'connections', 'workflows'],
    ({ made, workflow }) => {
      void message.success(
        `Created ${made.file}. Switch this workflow on to add each answer to it as a row.`,
      );
      void go(`/workflows/${workflow.id}`);
    },
  );
  const form = connections.data?.items?.some((c) => c.id === s.connection && c.kind === 'form');
  if (!form || !channel) return null;
  return (
    <Button loading={make.isPending} onClick={() => make.mutate()}>
      Keep answers in a table
    </Button>
  );
}

/** The records, and the workflows that can be started for those that are ticked. */
function Records({ source, editor }: { source: string; editor: boolean }) {
  const workflows = useWorkflows().data?.items ?? [];
  const by = workflows.filter((w) => w.on && w.form === 'start' && w.source === source);
  const [ticked, setTicked] = useState<string[]>([]);
  const [starting, setStarting] = useState<{ id: number; name: string }>();
  if (!editor || by.length === 0) return <RecordSearch source={source} />;
  return (
    <>
      <div className="inline startbar" role="status">
        <span className={ticked.length ? '' : 'muted'}>
          {ticked.length === 0
            ? 'Tick records to start a workflow for them.'
            : ticked.length === 1
              ? '1 record ticked:'
              : `${ticked.length} records ticked:`}
        </span>
        {ticked.length > 0 &&
          by.map((w) => (
            <Button key={w.id} size="small" onClick={() => setStarting({ id: w.id, name: w.name })}>
              Start {w.name}
            </Button>
          ))}
        {ticked.length > 0 && (
          <Button size="small" type="text" onClick={() => setTicked([])}>
            Tick none
          </Button>
        )}
      </div>
      <RecordSearch source={source} ticked={ticked} tick={setTicked} />
      {starting && (
        <StartDialog
          id={starting.id}
          name={starting.name}
          of={ticked}
          close={() => {
            setStarting(undefined);
            setTicked([]);
          }}
        />
      )}
    </>
  );
}

function Rhythm({ s, editor, change }: { s: SourceItem; editor: boolean; change: Change }) {
  const p = s.poll;
  const [quickest, setQuickest] = useState(p.quickest);
  const [slowest, setSlowest] = useState(p.slowest);
  return (
    <Band label="Rhythm" hint="how often it is asked">
      <div className="bandbody inline">
        <span>Between every</span>
        <InputNumber
          aria-label="Seconds at the quickest"
          min={1}
          value={quickest}
          disabled={!editor}
          onChange={(v) => setQuickest(v ?? 1)}
        />
        <span>and every</span>
        <InputNumber
          aria-label="Seconds at the slowest"
          min={1}
          value={slowest}
          disabled={!editor}
          onChange={(v) => setSlowest(v ?? 1)}
        />
        <span>seconds: more often while there is news, less often while there is not.</span>
        {editor && (quickest !== p.quickest || slowest !== p.slowest) && (
          <Button size="small" onClick={() => change({ quickest, slowest })}>
            Keep this
          </Button>
        )}
        <span className="muted">
          {p.watched > 0 && p.watched < p.slowest && (
            <>
              While a workflow that is on watches it, at least every {p.watched} s, until you say
              otherwise.{' '}
            </>
          )}
          Now every {p.every} s, about {counted(p.calls_a_day, 'call')} a day.
        </span>
      </div>
    </Band>
  );
}

function Settings({ s, editor, change }: { s: SourceItem; editor: boolean; change: Change }) {
  const c = useConnection(s.connection);
  const kind = useKinds().data?.items?.find((k) => k.name === c.data?.kind);
  const [values, setValues] = useState<Record<string, string>>(s.settings);
  const [how, setHow] = useState<'now' | 'everything'>('now');
  const fields = (kind?.source ?? []).filter((f) => f.type !== 'questions');
  if (!kind || !editor || (kind.source ?? []).length === 0) return null;
  if (kind.signs)
    return (
      <Band label="Reading" hint="what is sent">
        <div className="bandbody">
          <HookReading
            key={`${s.settings.record ?? ''} ${s.key_field}`}
            source={s.source}
            record={s.settings.record ?? ''}
            keyField={s.key_field}
            editor={editor}
          />
        </div>
      </Band>
    );
  const differs = JSON.stringify(values) !== JSON.stringify(s.settings);
  return (
    <Band label="Settings" hint="how it is read">
      <div className="bandbody">
        <SettingsForm
          fields={fields}
          values={values}
          change={setValues}
          prefix="source"
          ofConnection={c.data?.settings}
        />
        {(kind.source ?? []).some((f) => f.type === 'questions') && (
          <FormDesigner
            value={values.fields ?? ''}
            change={(text) => setValues({ ...values, fields: text })}
          />
        )}
        {differs && (
          <>
            {s.poll && (
              <fieldset className="beginwith">
                <legend>Where to begin</legend>
                <Radio.Group
                  value={how}
                  onChange={(e) => setHow(e.target.value as typeof how)}
                  options={[
                    { value: 'now', label: 'From now on: what is read more than before is only remembered' },
                    { value: 'everything', label: 'Everything that was not read before is new' },
                  ]}
                />
              </fieldset>
            )}
            <Button
              type="primary"
              disabled={missing(fields, values, c.data?.settings).length > 0}
              onClick={() => change({ settings: values, begin: { how } })}
            >
              Save the settings
            </Button>
          </>
        )}
      </div>
    </Band>
  );
}
