import { useQuery } from '@tanstack/react-query';
import { Button, Input, Modal, Radio } from 'antd';
import { useState } from 'react';
import { Trouble } from '../../parts/Trouble';
import { Changes } from './Changes';
import { api, answerOf, type Schemas, type WorkflowDetail } from '../../api/client';
import { counted } from '../../parts/counted';

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

const bands: Record<string, string> = {
  watch: 'Watch',
  keep: 'Keep',
  gather: 'Gather',
  route: 'Route',
  messages: 'Tell',
  pace: 'Pace',
  follow: 'Follow',
};

/** The band of the sheet that a path lies in. */
const placeOf = (path: string) => bands[path.split(/[.[]/)[0] ?? ''] ?? path;

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
      answerOf(api.POST('/api/workflows/{id}/on/preview', { params: { path: { id: w.id } }, body: begin })),
  });
  // Whether its channels would take a post is asked of the other side before the question, not after.
  const ready = useQuery({
    queryKey: ['ready-on', w.id],
    staleTime: 0,
    gcTime: 0,
    queryFn: () => answerOf(api.POST('/api/workflows/{id}/on/ready', { params: { path: { id: w.id } } })),
  });
  const missing = ready.data?.items ?? [];
  const b = would.data;
  const posts = how === 'now' ? 0 : (b?.posts ?? 0);
  return (
    <Modal
      open
      title={w.on ? `Version ${w.version + 1} takes over` : `Switch on ${w.name}`}
      onCancel={close}
      okText={posts > 0 ? `Switch on and send ${posts}` : 'Switch on'}
      okButtonProps={{
        // While the channels are still being asked it can be pressed: switching on asks them, too.
        loading: busy || (how !== 'now' && would.isPending),
        disabled: missing.length > 0,
        autoFocus: true,
      }}
      onOk={() => on({ note: note || undefined, begin: past && how !== 'now' ? begin : undefined })}
    >
      {ready.error && <Trouble error={ready.error} again={() => void ready.refetch()} />}
      {missing.length > 0 && (
        <section className="version" role="status">
          <h3>It cannot be switched on yet</h3>
          <ul className="problems">
            {missing.map((p, i) => (
              <li key={i} className="brass">
                ○ {p.message} <span className="muted small">({placeOf(p.path)})</span>
              </li>
            ))}
          </ul>
          <Button size="small" loading={ready.isFetching} onClick={() => void ready.refetch()}>
            Look again
          </Button>
        </section>
      )}
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
                {posts === 0
                  ? 'nothing is sent'
                  : `${counted(posts, 'post')} ${posts === 1 ? 'is' : 'are'} sent at once`}
                .
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
      {!past && (
        <p>
          {w.on
            ? 'It takes over from now on.'
            : 'It waits from now on. What holds already counts from this moment.'}
        </p>
      )}
      <div className="setting">
        <label htmlFor="switch-note">
          What is new <span className="muted">(if wanted)</span>
        </label>
        <Input id="switch-note" value={note} maxLength={500} onChange={(e) => setNote(e.target.value)} />
      </div>
    </Modal>
  );
}
