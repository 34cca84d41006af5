import { useMemo, useState, type KeyboardEvent } from 'react';
import { useParams, useSearchParams } from 'react-router';
import type { TrailMark } from '../../api/client';
import { useFields, useMe, useWords } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { AsText } from './AsText';
import { ChosenBar } from './ChosenBar';
import { FollowBand } from './FollowBand';
import { GatherBand } from './GatherBand';
import { KeepBand } from './KeepBand';
import { PaceBand } from './PaceBand';
import { RouteBandView } from './RouteBandView';
import { SheetHead } from './SheetHead';
import { TellBand } from './TellBand';
import { Trail } from './Trail';
import { WatchBand } from './watch/WatchBand';
import { Findings, Surroundings, Trial } from './surroundings';
import { useLatest } from '../../parts/useLatest';
import { putAt, sourceOf, type Sheet } from './model';
import { useDraft } from './useDraft';
import { useProof } from './useProof';

const noMarks: TrailMark[] = [];

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
  const proof = useProof(work.draft, arrival, record, id);
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
  const change = useLatest((next: Partial<Sheet>) => {
    if (sheet) work.edit({ sheet: { ...sheet, ...next } });
  });
  const pick = useLatest(choose);
  const offered = fields.data?.items;
  const operators = words.data?.operators;
  const gathered = (sheet?.gather ?? []).map((g) => g.name).join(' ');
  const around = useMemo(
    () => ({
      fields: (offered ?? []).filter((f) => !f.hidden),
      operators: operators ?? [],
      readOnly: viewer,
      names: gathered ? gathered.split(' ') : [],
      put,
    }),
    [offered, operators, viewer, gathered, put],
  );

  const found = useMemo(() => {
    const body = proof.data;
    return {
      problems: body?.problems ?? [],
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
      <ChosenBar
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
              <RouteBandView
                sheet={sheet}
                change={change}
                proof={body?.proof ?? undefined}
                trail={body?.trail ?? noMarks}
                table={body?.table ?? undefined}
              />
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
