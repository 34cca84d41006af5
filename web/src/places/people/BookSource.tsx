import { Button, Select } from 'antd';
import { useState } from 'react';
import { useAct } from '../../api/act';
import { api, answerOf, type Schemas } from '../../api/client';
import { useFields, useSources } from '../../api/queries';
import { counted } from '../../parts/counted';
import { Trouble } from '../../parts/Trouble';

type Chosen = Schemas['BookSource'];

interface Props {
  chosen: Chosen;
  connections: string[];
}

/** A source whose records are the people: which field is what. */
export function BookSource({ chosen, connections }: Props) {
  const sources = useSources();
  const [to, setTo] = useState<Chosen>(chosen);
  const fields = useFields(to.source);
  const names = (fields.data?.items ?? []).map((f) => ({ value: f.name, label: f.label }));
  const choose = useAct(
    (body: Chosen) => answerOf(api.PUT('/api/people-book/source', { body })),
    ['people-book', 'audit'],
    undefined,
    'in place',
  );
  const pick = (label: string, value: string | undefined, set: (v: string) => void) => (
    <Select
      key={label}
      allowClear
      showSearch
      aria-label={`Field of the ${label}`}
      placeholder={label}
      popupMatchSelectWidth={false}
      value={value || undefined}
      options={names.map((n) => ({ ...n, label: `${label}: ${n.label}` }))}
      onChange={(v?: string) => set(v ?? '')}
    />
  );
  return (
    <section className="band">
      <h2 className="band-label">From a source</h2>
      <div className="band-body">
        <p className="muted">Where an app knows the people already, its records are the book.</p>
        <div className="inline">
          <Select
            allowClear
            showSearch={{ optionFilterProp: 'label' }}
            className="wide-select"
            aria-label="Source that is the people book"
            placeholder="persons are entered here"
            value={to.source || undefined}
            options={(sources.data?.items ?? []).map((s) => ({
              value: s.source,
              label: s.title || s.source,
            }))}
            onChange={(source?: string) => setTo({ source: source ?? '' })}
          />
          {to.source && (
            <>
              {pick('name', to.name, (name) => setTo({ ...to, name }))}
              {pick('preferred connection', to.prefers, (prefers) => setTo({ ...to, prefers }))}
              {connections.map((c) =>
                pick(`address on ${c}`, to.addresses?.[c], (v) =>
                  setTo({ ...to, addresses: { ...to.addresses, [c]: v } }),
                ),
              )}
            </>
          )}
          <Button
            disabled={JSON.stringify(to) === JSON.stringify(chosen)}
            loading={choose.isPending}
            onClick={() => choose.mutate(to)}
          >
            {to.source ? 'Have it be the book' : 'Enter persons here'}
          </Button>
        </div>
        {choose.error && <Trouble error={choose.error} />}
        {choose.data && to.source && (
          <p className="good">
            ✓ {counted(choose.data.persons, 'person')} found in {to.source}.
          </p>
        )}
      </div>
    </section>
  );
}
