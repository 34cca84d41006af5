import './sheet.css';
import { useMemo, useState, type KeyboardEvent } from 'react';
import { useParams, useSearchParams } from 'react-router';
import { useQueries } from '@tanstack/react-query';
import type { FieldItem, Proof, Question, TrailMark } from '../../api/client';
import { fieldsOf, useFields, useMe, useSources, useWords } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { AskBand } from './AskBand';
import { AnswerBand } from './AnswerBand';
import { AsText } from './AsText';
import { ChosenBar } from './ChosenBar';
import { FollowBand } from './FollowBand';
import { GatherBand } from './GatherBand';
import { KeepBand } from './KeepBand';
import { PaceBand } from './PaceBand';
import { RouteBandView } from './RouteBandView';
import { SheetHead } from './SheetHead';
import { TellBand } from './TellBand';
import { columnsOf } from './TablePart';
import { Trail } from './Trail';
import { Worth } from './Worth';
import { WatchBand } from './watch/WatchBand';
import { Findings, Surroundings, Trial } from './surroundings';
import { useLatest } from '../../parts/useLatest';
import { formulaNames, testNames, valueAt, type GatheredName } from './names';
import { mendedAt, putAt, sourceOf, type Sheet } from './model';
import { useDraft } from './useDraft';
import { useProof } from './useProof';

const noMarks: TrailMark[] = [];

/** What is known of an answer to a question. */
const answerFields = [
  { name: 'choice', label: 'Choice', type: 'choice' },
  { name: 'by', label: 'By', type: 'text' },
  { name: 'comment', label: 'Comment', type: 'text' },
  { name: 'at', label: 'At', type: 'moment' },
];

/** What is gathered, with the fields of the sources that it is found in. It changes only when these do. */
function useGathered(sheet: Sheet | undefined): GatheredName[] {
  const list = (sheet?.gather ?? []).map((g) => ({
    name: g.name,
    source: g.find?.source,
    many: g.find?.take === 'all',
    open: !g.find && !g.summary,
    answer: false,
  }));
  const asked = (sheet?.ask ?? []).map((a) => ({
    name: a.name,
    source: undefined,
    many: false,
    open: false,
    answer: true,
  }));
  const tables = Object.entries(sheet?.tables ?? {}).map(([name, rows]) => ({
    name,
    columns: columnsOf(rows),
  }));
  const sources = [...new Set(list.flatMap((g) => (g.source?.includes('/') ? [g.source] : [])))];
  const known = useQueries({
    queries: sources.map(fieldsOf),
    combine: (results) => results.map((r) => r.data?.items),
  });
  const spelt = JSON.stringify({ found: [...list, ...asked], tables });
  return useMemo(
    () => {
      const now = JSON.parse(spelt) as { found: typeof list; tables: typeof tables };
      return [
        ...now.found.map(({ name, source, many, open, answer }) => ({
          name,
          many,
          open,
          fields: answer
            ? answerFields
            : (known[sources.indexOf(source ?? '')] ?? []).filter((f) => !f.hidden),
        })),
        ...now.tables.map(({ name, columns }) => ({
          name,
          many: true,
          table: true,
          fields: columns.map((c) => ({ name: c, label: c, type: '' })),
        })),
      ];
    },
    // The sources follow from how the list is spelt.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [spelt, known],
  );
}

/** What names stand for in what the proof is about. */
const rootsOf = (proof: Proof | undefined): Record<string, unknown> => ({
  ...Object.fromEntries((proof?.proof?.gather ?? []).map((g) => [g.name, g.raw ?? g.value])),
  record: proof?.arrival?.record,
  before: proof?.arrival?.before,
  answers: proof?.arrival?.answers,
  arrival: proof?.arrival,
});

/** One workflow: its sheet on the left, its proof on the right, its trail above both. */
export function SheetPlace() {
  const id = Number(useParams().id);
  return <Editor key={id} id={id} />;
}

function Editor({ id }: { id: number }) {
  const work = useDraft(id);
  const [params] = useSearchParams();
  const [arrival, setArrival] = useState(Number(params.get('arrival')) || 0);
  const [record, setRecord] = useState('');
  const choose = (seq: number, key = '') => {
    setArrival(seq);
    setRecord(seq ? '' : key);
  };
  const [suppose, setSuppose] = useState<Record<string, string>>({});
  const proof = useProof(work.draft, arrival, record, id, suppose);
  const sheet = work.draft?.sheet;
  const source = sourceOf(sheet?.watch);
  const proved = proof.data?.arrival;
  // From the first proof on an edit changes the proof, not what is proved.
  if (arrival === 0 && !record && proved && proved.seq > 0 && (!source || proved.source === source))
    setArrival(proved.seq);
  const [of, setOf] = useState(source);
  if (source !== of) {
    setOf(source);
    if (of) choose(0); // another source has other arrivals
  }
  const fields = useFields(source);
  const words = useWords();
  const me = useMe();

  const viewer = me.data?.role === 'viewer';
  const put = useLatest((path: string, value: unknown) => {
    if (sheet) work.edit({ sheet: putAt(sheet, path, value) });
  });
  const mend = useLatest((path: string, value: unknown, found: unknown) => {
    const mended = sheet && mendedAt(sheet, found, path, value);
    if (mended) work.edit({ sheet: mended });
  });
  const change = useLatest((next: Partial<Sheet>) => {
    if (sheet) work.edit({ sheet: { ...sheet, ...next } });
  });
  const pick = useLatest(choose);
  const offered = fields.data?.items;
  const operators = words.data?.operators;
  const keyField = useSources().data?.items?.find((s) => s.source === source)?.key_field || 'id';
  const gathered = useGathered(sheet);
  const told = Object.keys(sheet?.messages ?? {}).join(' ');
  const asked = JSON.stringify(sheet?.watch.start?.ask ?? sheet?.watch.called?.takes ?? []);
  const valueOf = useLatest((path: string) => valueAt(path, rootsOf(proof.data)));
  const around = useMemo(() => {
    const own = (offered ?? []).filter((f) => !f.hidden);
    return {
      fields: own,
      operators: operators ?? [],
      readOnly: viewer,
      chips: [
        ...own,
        ...testNames(own)
          .filter((n) => n.field?.includes('.') && !n.item)
          .map((n) => ({ name: n.field!, label: n.label, type: n.type })),
      ] as FieldItem[],
      names: gathered.map((g) => g.name),
      all: formulaNames(own, JSON.parse(asked) as Question[], gathered),
      tests: testNames(own, gathered),
      gathered,
      messages: told ? told.split(' ') : [],
      valueOf,
      keyField,
      put,
      mend,
    };
  }, [offered, operators, viewer, gathered, told, asked, valueOf, keyField, put, mend]);

  const found = useMemo(() => {
    const body = proof.data;
    return {
      problems: body?.problems ?? [],
      of: body?.of,
      counts: body?.counts ?? {},
      seen: body?.seen ?? {},
    };
  }, [proof.data]);
  const trial = useMemo(() => {
    const body = proof.data;
    const on = record ? { record } : { arrival: Math.max(0, body?.arrival?.seq ?? 0) };
    return body?.proof ? { id, sheet, ...on } : undefined;
  }, [proof.data, record, id, sheet]);

  if (work.loaded.error)
    return <Trouble error={work.loaded.error} again={() => void work.loaded.refetch()} />;
  // How a value is edited depends on its field's type: nothing is shown for editing before that is known.
  const waiting = source.includes('/') && fields.isPending && !fields.isError;
  if (!work.draft || !work.loaded.data || waiting || words.isPending) return null;
  const body = proof.data;
  const onKey = (e: KeyboardEvent) => {
    if (!(e.ctrlKey || e.metaKey) || e.key !== 'z' || e.shiftKey) return;
    e.preventDefault(); // the field's own undoing knows nothing of the sheet
    work.undo();
  };
  const chosen = body?.arrival?.seq ?? 0;

  return (
    <main className="sheetplace" id="place" onKeyDown={onKey}>
      <SheetHead
        work={work}
        workflow={work.loaded.data}
        problems={body?.problems ?? []}
        sheet={sheet}
        change={change}
        chosen={chosen > 0 ? { seq: chosen, key: body?.arrival?.key ?? '' } : undefined}
      />
      {proof.error && <Trouble error={proof.error} again={() => void proof.refetch()} />}
      <Trail
        marks={body?.trail ?? noMarks}
        chosen={chosen}
        choose={pick}
        rows={sheet?.route.rows ?? []}
        version={work.loaded.data.on ? work.loaded.data.version : 0}
      />
      <Worth workflow={work.loaded.data.id} />
      <ChosenBar
        known={body !== undefined}
        arrival={body?.arrival ?? undefined}
        proof={body?.proof ?? undefined}
        marks={body?.trail ?? noMarks}
        choose={choose}
        source={source}
        stale={proof.stale}
      />
      {sheet ? (
        <Surroundings.Provider value={around}>
          <Findings.Provider value={found}>
            <Trial.Provider value={trial}>
              <WatchBand sheet={sheet} change={change} proof={body?.proof ?? undefined} />
              <KeepBand sheet={sheet} change={change} proof={body?.proof ?? undefined} />
              <GatherBand sheet={sheet} change={change} proof={body?.proof ?? undefined} />
              <AskBand
                sheet={sheet}
                change={change}
                proof={body?.proof ?? undefined}
                suppose={suppose}
                setSuppose={setSuppose}
              />
              <RouteBandView
                sheet={sheet}
                change={change}
                proof={body?.proof ?? undefined}
                trail={body?.trail ?? noMarks}
                table={body?.table ?? undefined}
              />
              <AnswerBand sheet={sheet} change={change} proof={body?.proof ?? undefined} />
              <TellBand sheet={sheet} change={change} proof={body?.proof ?? undefined} />
              <PaceBand sheet={sheet} change={change} trail={body?.trail ?? noMarks} />
              <FollowBand sheet={sheet} change={change} proof={body?.proof ?? undefined} />
            </Trial.Provider>
          </Findings.Provider>
        </Surroundings.Provider>
      ) : (
        <AsText
          text={work.draft.text ?? ''}
          edit={(text) => work.edit({ text })}
          problems={body?.problems ?? []}
        />
      )}
    </main>
  );
}
