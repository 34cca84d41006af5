import './watch.css';
import { memo } from 'react';
import { Select } from 'antd';
import type { ProofLines } from '../../../api/client';
import { useStarters } from '../../../api/queries';
import { Band, BandLine } from '../../../parts/Band';
import { ProblemsAt } from '../ProblemsAt';
import { formOf, freshBody, sourceOf, type Sheet, type Watch, type WatchForm } from '../model';
import { useSurroundings } from '../surroundings';
import { ChangeForm } from './ChangeForm';
import { DueForm, LastsForm } from './RecordForms';
import { ScheduleForm } from './ScheduleForm';
import { SilentForm } from './SilentForm';
import { CalledForm, StartForm } from './StartForms';

export interface FormProps {
  watch: Watch;
  set: (next: Watch) => void;
  proof: ProofLines | undefined;
}

const words: Record<WatchForm, string> = {
  '': 'a record changes',
  due: 'a moment comes due',
  lasts: 'a state lasts too long',
  silent: 'nothing comes',
  schedule: 'the calendar says so',
  start: 'a person starts it',
  called: 'a call starts it',
};

const editors: Record<WatchForm, (p: FormProps) => React.ReactNode> = {
  '': ChangeForm,
  due: DueForm,
  lasts: LastsForm,
  silent: SilentForm,
  schedule: ScheduleForm,
  start: StartForm,
  called: CalledForm,
};

interface Props {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
  proof: ProofLines | undefined;
}

/** The messages, where the title of a fresh one names a record and there is none any more. */
function retitled(sheet: Sheet, record: boolean): Sheet['messages'] {
  const messages = sheet.messages ?? {};
  if (record) return messages;
  return Object.fromEntries(
    Object.entries(messages).map(([name, m]) => [
      name,
      m.body === freshBody && /^\$\{record\.\w+\}$/.test(m.title ?? '') ? { ...m, title: sheet.name } : m,
    ]),
  );
}

/** What starts the workflow, in any of its forms. */
export const WatchBand = memo(function WatchBand({ sheet, change, proof }: Props) {
  const { fields, readOnly } = useSurroundings();
  const starters = useStarters();
  const watch = sheet.watch ?? {};
  const form = formOf(watch);
  const set = (next: Watch) => change({ watch: next });
  const turn = (next: WatchForm) => {
    const source = sourceOf(watch) || starters.source;
    const time = fields.find((f) => f.type === 'moment' || f.type === 'date')?.name ?? 'due';
    const first = fields.find((f) => f.name === 'status')?.name ?? fields[0]?.name ?? 'id';
    const today = new Date().toISOString().slice(0, 10);
    const fresh: Record<WatchForm, Watch> = {
      '': { source },
      due: { source, due: { field: time, offset: '-2h' } },
      lasts: { source, lasts: { that: { field: first, is: '' }, for: '45m' } },
      silent: { source, silent: { for: '6h' } },
      schedule: { schedule: { start: `${today}T07:00`, rule: 'FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR' } },
      start: { start: { source, ask: [] } },
      called: { called: { takes: [{ name: 'text', label: 'Text', type: 'text' }] } },
    };
    change({ watch: fresh[next], messages: retitled(sheet, sourceOf(fresh[next]) !== '') });
  };
  const Editor = editors[form];
  return (
    <Band label="Watch" hint="what starts it">
      <BandLine
        ask={
          <div className="inline">
            <span className="lead-word">It starts when</span>
            <Select
              className="form-select"
              aria-label="What starts it"
              disabled={readOnly}
              popupMatchSelectWidth={false}
              value={form}
              options={Object.entries(words).map(([value, label]) => ({ value, label }))}
              onChange={(v: string) => turn(v as WatchForm)}
            />
            <ProblemsAt path="watch" exact />
          </div>
        }
        proof={
          proof && (
            <span className={proof.starts ? 'good' : 'muted'}>
              {proof.starts ? '✓' : '–'} {proof.kind}
            </span>
          )
        }
      />
      <Editor watch={watch} set={set} proof={proof} />
    </Band>
  );
});
