import { useQuery } from '@tanstack/react-query';
import { Input, Modal, Radio } from 'antd';
import { useState } from 'react';
import { Changes } from './Changes';
import { api, said, type Schemas, type WorkflowDetail } from '../../api/client';

type How = 'now' | 'from' | 'everything';

interface Props {
  workflow: WorkflowDetail;
  /** Whether past arrivals could be begun with at all. */
  past: boolean;
  chosen: { seq: number; key: string } | undefined;
  on: (body: { note?: string; begin?: Schemas['BeginWorkflow'] }) => void;
  busy: boolean;
  close: () => void;
}

/** The one commitment: says what changes, where it begins, and what that sends at once. */
export function SwitchOnDialog({ workflow: w, past, chosen, on, busy, close }: Props) {
  const [how, setHow] = useState<How>('now');
  const [note, setNote] = useState('');
  const begin = { how, ...(how === 'from' && { arrival: chosen?.seq ?? 0 }) };
  const would = useQuery({
    queryKey: ['beginning', w.id, how, chosen?.seq],
    enabled: past && how !== 'now',
    staleTime: 0,
    queryFn: () =>
      said(api.POST('/api/workflows/{id}/on/preview', { params: { path: { id: w.id } }, body: begin })),
  });
  const b = would.data;
  const posts = how === 'now' ? 0 : (b?.posts ?? 0);
  return (
    <Modal
      open
      title={w.on ? `Version ${w.version + 1} takes over` : `Switch on ${w.name}`}
      onCancel={close}
      okText={posts > 0 ? `Switch on and send ${posts}` : 'Switch on'}
      okButtonProps={{ loading: busy || (how !== 'now' && would.isPending), autoFocus: true }}
      onOk={() => on({ note: note || undefined, begin: past && how !== 'now' ? begin : undefined })}
    >
      {w.version > 0 && (
        <section className="version">
          <h3>What changes from version {w.version}</h3>
          <Changes list={w.changes ?? []} />
        </section>
      )}
      {past && (
        <fieldset className="beginwith">
          <legend>Where it begins</legend>
          <Radio.Group
            value={how}
            onChange={(e) => setHow(e.target.value as How)}
            options={[
              { value: 'now', label: 'From now on' },
              {
                value: 'from',
                label: chosen ? `From the chosen arrival on (${chosen.key})` : 'From a chosen arrival on',
                disabled: !chosen,
              },
              { value: 'everything', label: 'Everything that has ever come from this source' },
            ]}
          />
          <p className={posts > 0 ? 'brass' : 'muted'} role="status">
            {how === 'now' && 'Nothing is sent for what has come already.'}
            {how !== 'now' && would.isPending && 'Counting what that would send…'}
            {how !== 'now' && b && (
              <>
                {posts > 0 && '△ '}
                {b.more && 'At least '}
                {b.arrivals.toLocaleString('en')} past arrivals are decided, and{' '}
                {posts === 0 ? 'nothing is sent' : `${posts.toLocaleString('en')} posts are sent at once`}.
                {Object.entries(b.by_place).map(([place, n]) => (
                  <span key={place}>
                    {' '}
                    {place}: {n}.
                  </span>
                ))}
              </>
            )}
          </p>
        </fieldset>
      )}
      {!past && <p>It waits from now on. What holds already counts from this moment.</p>}
      <div className="setting">
        <label htmlFor="switch-note">
          What is new <span className="muted">(if wanted)</span>
        </label>
        <Input id="switch-note" value={note} maxLength={500} onChange={(e) => setNote(e.target.value)} />
      </div>
    </Modal>
  );
}
