import './sheet.css';
import { memo, useMemo, useState } from 'react';
import { Button, Dropdown, Input, InputNumber, Select } from 'antd';
import type { ProofLines, Schemas } from '../../api/client';
import { useFields, useRelations, useStarters } from '../../api/queries';
import { Band, BandLine } from '../../parts/Band';
import { withQuestion } from './AskBand';
import { ProblemsAt } from './ProblemsAt';
import { AddCondition, Condition } from './Condition';
import { HttpEntry, ScriptEntry, SummaryEntry, ValueEntry } from './GatherWays';
import { testNames } from './names';
import { sourceOf, withTest, type Gathered, type Sheet, exchanged, dropped } from './model';
import { Surroundings, useSurroundings } from './surroundings';
import { TablePart, withTable } from './TablePart';
import { SourceSelect } from './watch/SourceSelect';
import { counted } from '../../parts/counted';
import { placeWords } from './placeWords';
import { RemoveButton } from '../../parts/RemoveButton';

interface Props {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
  proof: ProofLines | undefined;
}

/** What the message or the route needs and the record lacks: related records, lists, calculations. */
export const GatherBand = memo(function GatherBand({ sheet, change, proof }: Props) {
  const { readOnly, fields } = useSurroundings();
  const { source: first, channel } = useStarters();
  // The field with the longest examples is the one to sum up.
  const length = (f: (typeof fields)[number]) => Math.max(0, ...(f.examples ?? []).map((e) => e.length));
  const long = [...fields].sort((a, b) => length(b) - length(a))[0]?.name ?? 'text';
  const [open, setOpen] = useState(false);
  const relations = useRelations(open ? sourceOf(sheet.watch) : '');
  const list = sheet.gather ?? [];
  if (readOnly && list.length === 0 && !sheet.tables) return null;
  const set = (next: Gathered[]) => change({ gather: next.length ? next : undefined });
  const add = (g: Omit<Gathered, 'name'>, base: string) => {
    let name = base;
    for (let n = 2; list.some((o) => o.name === name); n++) name = `${base}${n}`;
    set([...list, { name, ...g }]);
  };
  return (
    <Band label="Gather" hint="what it lacks">
      {list.map((g, i) => (
        <Entry
          key={i}
          g={g}
          path={`gather[${i}]`}
          proof={proof?.gather?.find((p) => p.path === `gather[${i}]`)}
          change={(next) => set(exchanged(list, i, next))}
          remove={() => set(dropped(list, i))}
        />
      ))}
      {Object.entries(sheet.tables ?? {}).map(([name, rows]) => (
        <BandLine
          key={name}
          ask={
            <>
              <TablePart
                name={name}
                rows={rows}
                taken={Object.keys(sheet.tables ?? {})}
                change={(next) => change({ tables: { ...sheet.tables, [name]: next } })}
                rename={(to) =>
                  change({
                    tables: Object.fromEntries(
                      Object.entries(sheet.tables ?? {}).map(([k, v]) => [k === name ? to : k, v]),
                    ),
                  })
                }
                remove={() => {
                  const rest = Object.entries(sheet.tables ?? {}).filter(([k]) => k !== name);
                  change({ tables: rest.length ? Object.fromEntries(rest) : undefined });
                }}
              />
              <ProblemsAt path={`tables.${name}`} />
            </>
          }
        />
      ))}
      {!readOnly && (
        <BandLine
          ask={
            <>
              <Dropdown
                trigger={['click']}
                onOpenChange={setOpen}
                menu={{
                  items: [
                    ...(relations.data?.items ?? []).map((r) => ({
                      key: `${r.field} ${r.source}`,
                      label: `What ${r.label} names, in ${r.source}`,
                      onClick: () =>
                        add(
                          {
                            find: {
                              source: r.source,
                              where: { field: r.of, is: `\${${formulaOf(r.field)}}` },
                              take: 'one',
                            },
                          },
                          baseOf(r),
                        ),
                    })),
                    {
                      key: 'one',
                      label: 'A related record',
                      onClick: () => add({ find: { source: first, take: 'one' } }, 'found'),
                    },
                    {
                      key: 'all',
                      label: 'A list of records',
                      onClick: () => add({ find: { source: first, take: 'all', limit: 10 } }, 'list'),
                    },
                    { key: 'value', label: 'A calculation', onClick: () => add({ value: 'now' }, 'value') },
                    {
                      key: 'summary',
                      label: 'A summary of a long text',
                      onClick: () => add({ summary: { of: long, words: 25 } }, 'short'),
                    },
                    {
                      key: 'http',
                      label: 'The answer of a service',
                      onClick: () => add({ http: { url: 'https://' }, if_fails: 'empty' }, 'answer'),
                    },
                    {
                      key: 'table',
                      label: 'A table of its own, such as from which room to which',
                      onClick: () => change({ tables: withTable(sheet.tables) }),
                    },
                    {
                      key: 'script',
                      label: 'A few lines of script',
                      onClick: () =>
                        add({ script: 'result = record["' + (fields[0]?.name ?? 'id') + '"]' }, 'value'),
                    },
                  ],
                }}
              >
                <Button type="link" size="small" className="add">
                  + gather
                </Button>
              </Dropdown>
              {!sheet.ask && (
                <Button
                  type="link"
                  size="small"
                  className="add"
                  onClick={() => change(withQuestion(sheet, channel))}
                >
                  + ask somebody first
                </Button>
              )}
            </>
          }
        />
      )}
    </Band>
  );
});

const plainName = /^[A-Za-z_][A-Za-z0-9_]*$/;
const formulaOf = (field: string) => (plainName.test(field) ? `record.${field}` : `record["${field}"]`);

/** What a found record is called: after the field that names it, or after its source. */
const baseOf = (r: Schemas['Relation']) => {
  const field = r.field.replace(/_?(id|no|number|key|name)$/i, '');
  const kind = r.source.slice(r.source.indexOf('/') + 1).replace(/s$/, '');
  const name = plainName.test(field) && field !== r.field ? field : kind;
  return plainName.test(name) &&
    !['record', 'before', 'arrival', 'answers', 'changed', 'now', 'it'].includes(name)
    ? name
    : 'found';
};

/** Microseconds in words. */
const tookWords = (us: number) => (us < 1e6 ? `${Math.round(us / 1000)} ms` : `${(us / 1e6).toFixed(1)} s`);

interface EntryProps {
  g: Gathered;
  path: string;
  proof: NonNullable<ProofLines['gather']>[number] | undefined;
  change: (next: Gathered) => void;
  remove: () => void;
}

function Entry({ g, path, proof, change, remove }: EntryProps) {
  const { readOnly } = useSurroundings();
  const name = (
    <Input
      className="gather-name"
      aria-label={`Name of ${placeWords(path)}`}
      value={g.name}
      readOnly={readOnly}
      onChange={(e) => change({ ...g, name: e.target.value.replace(/[^A-Za-z0-9_]/g, '') })}
    />
  );
  const away = !readOnly && <RemoveButton label={`Remove ${g.name}`} remove={remove} />;
  const shown = proof && (
    <span className="seen">
      {proof.error ? (
        <span className="bad">✕ {proof.error}</span>
      ) : proof.would ? (
        <span className="muted">While you look it does not {proof.would}; it does when it runs.</span>
      ) : (
        <>
          {proof.many && <span className="muted">{counted(proof.count, 'record')}</span>}
          <b>{proof.value || (proof.many ? '' : '(empty)')}</b>
          {proof.took > 999 && <span className="muted">{tookWords(proof.took)}</span>}
        </>
      )}
    </span>
  );
  const parts = { g, path, change, name, away, shown };
  if (g.find) return <FindEntry {...parts} />;
  if (g.summary) return <SummaryEntry {...parts} />;
  if (g.script !== undefined) return <ScriptEntry {...parts} />;
  if (g.http) return <HttpEntry {...parts} />;
  return <ValueEntry {...parts} />;
}

interface FindProps {
  g: Gathered;
  path: string;
  change: (next: Gathered) => void;
  name: React.ReactNode;
  away: React.ReactNode;
  shown: React.ReactNode;
}

function FindEntry({ g, path, change, name, away, shown }: FindProps) {
  const around = useSurroundings();
  const find = g.find!;
  const known = useFields(find.source).data?.items;
  const fields = useMemo(() => known ?? [], [known]);
  const inner = useMemo(() => {
    const own = fields.filter((f) => !f.hidden);
    return { ...around, fields: own, tests: testNames(own) };
  }, [around, fields]);
  const put = (next: Partial<typeof find>) => change({ ...g, find: { ...find, ...next } });
  const where = find.where && Object.keys(find.where).length > 0 ? find.where : undefined;
  return (
    <Surroundings.Provider value={inner}>
      <BandLine
        ask={
          <div className="inline">
            {name}
            <span>is</span>
            <Select
              className="side-select"
              aria-label={`How many of ${g.name}`}
              disabled={around.readOnly}
              value={find.take ?? 'one'}
              options={[
                { value: 'one', label: 'the one' },
                { value: 'all', label: 'all' },
              ]}
              onChange={(take: 'one' | 'all') => put({ take })}
            />
            <span>of</span>
            <SourceSelect
              label={`Source of ${g.name}`}
              value={find.source}
              change={(source) => put({ source: source ?? '' })}
            />
            <Select
              className="side-select"
              aria-label={`Order of ${g.name}`}
              disabled={around.readOnly}
              allowClear
              popupMatchSelectWidth={false}
              placeholder="by key"
              value={find.sort}
              options={fields.flatMap((f) => [
                { value: f.name, label: `by ${f.label}` },
                { value: `-${f.name}`, label: `by ${f.label}, greatest first` },
              ])}
              onChange={(sort?: string) => put({ sort })}
            />
            {find.take === 'all' && (
              <InputNumber
                className="every-value"
                aria-label={`At most so many of ${g.name}`}
                min={1}
                placeholder="most"
                value={find.limit}
                disabled={around.readOnly}
                onChange={(v) => put({ limit: v ?? undefined })}
              />
            )}
            {!around.readOnly && <AddCondition add={(test) => put({ where: withTest(where, test) })} />}
            {away}
            <ProblemsAt path={path} exact />
            <ProblemsAt path={`${path}.find.source`} />
            <ProblemsAt path={`${path}.find.sort`} />
          </div>
        }
        proof={shown}
      />
      {where && (
        <Condition
          cond={where}
          path={`${path}.find.where`}
          line={undefined}
          change={(next) => put({ where: next })}
          lead="where"
          depth={1}
        />
      )}
    </Surroundings.Provider>
  );
}
