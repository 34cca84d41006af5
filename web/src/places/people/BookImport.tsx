import { Button, Checkbox, Input, Segmented, Select } from 'antd';
import { useState } from 'react';
import { useAct } from '../../api/act';
import { api, answerOf, type Schemas } from '../../api/client';
import { counted } from '../../parts/counted';
import { Trouble } from '../../parts/Trouble';

type As = Schemas['ImportInputBody']['as'];

/** Reads persons from a table or from vCards; what would come of it is shown first. */
export function BookImport({ connections }: { connections: string[] }) {
  const [as, setAs] = useState<As>('csv');
  const [text, setText] = useState('');
  const [whole, setWhole] = useState(false);
  const [over, setOver] = useState<Record<string, string>>({});
  const body = () => ({ as, text, whole, ...over });
  const look = useAct(
    () => answerOf(api.POST('/api/people-book/look', { body: body() })),
    [],
    undefined,
    'in place',
  );
  const take = useAct(
    () => answerOf(api.POST('/api/people-book/import', { body: body() })),
    ['people-book', 'audit'],
    () => {
      setText('');
      look.reset();
    },
    'in place',
  );
  const found = look.data;
  const wrong = (found?.items ?? []).filter((p) => Object.keys(p.wrong).length > 0);
  const change = (t: string) => {
    setText(t);
    look.reset();
  };
  return (
    <section className="band">
      <h2 className="band-label">Read in</h2>
      <div className="band-body">
        <div className="inline">
          <Segmented
            size="small"
            aria-label="What is read in"
            value={as}
            options={[
              { value: 'csv', label: 'A table (CSV)' },
              { value: 'vcard', label: 'vCards' },
            ]}
            onChange={(v) => {
              setAs(v as As);
              look.reset();
            }}
          />
          <input
            type="file"
            className="filechoice"
            aria-label="A file to read in"
            accept={as === 'csv' ? '.csv,text/csv' : '.vcf,text/vcard'}
            onChange={(e) => void e.target.files?.[0]?.text().then(change)}
          />
        </div>
        <Input.TextArea
          className="mono"
          aria-label="Persons to read in"
          rows={4}
          spellCheck={false}
          placeholder={
            as === 'csv' ? `id,name,prefers,${connections.join(',') || 'mail'}\nja,Jonas,…` : 'BEGIN:VCARD …'
          }
          value={text}
          onChange={(e) => change(e.target.value)}
        />
        {as === 'vcard' && (
          <div className="inline">
            {(['mail', 'phone', 'room'] as const).map((form) => (
              <Select
                key={form}
                allowClear
                aria-label={`Connection for ${form} addresses`}
                placeholder={`${form} addresses are for…`}
                popupMatchSelectWidth={false}
                value={over[form]}
                options={connections.map((c) => ({ value: c, label: `${form} → ${c}` }))}
                onChange={(c?: string) => setOver({ ...over, [form]: c ?? '' })}
              />
            ))}
          </div>
        )}
        <div className="inline">
          <Checkbox checked={whole} onChange={(e) => setWhole(e.target.checked)}>
            take out of the book who is not in it
          </Checkbox>
          <Button disabled={!text.trim()} loading={look.isPending} onClick={() => look.mutate()}>
            Look at it
          </Button>
          {found && (
            <Button type="primary" loading={take.isPending} onClick={() => take.mutate()}>
              Read in {counted(found.persons, 'person')}
            </Button>
          )}
        </div>
        {look.error && <Trouble error={look.error} />}
        {take.error && <Trouble error={take.error} />}
        {found && (
          <p>
            {counted(found.persons, 'person')}, {found.new} of them new
            {found.gone > 0 && <span className="brass">; {found.gone} would be taken out</span>}.
          </p>
        )}
        {wrong.map((p) => (
          <p key={p.id} className="brass small">
            △ {p.name || p.id}:{' '}
            {Object.entries(p.wrong)
              .map(([c, w]) => `${c}: ${w}`)
              .join('; ')}
          </p>
        ))}
        {take.data && <p className="good">✓ {counted(take.data.persons, 'person')} read in.</p>}
      </div>
    </section>
  );
}
