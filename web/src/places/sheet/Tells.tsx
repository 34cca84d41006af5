import { Button, Select } from 'antd';
import { memo } from 'react';
import { useAct } from '../../api/act';
import { api, answerOf } from '../../api/client';
import { useDestinations, useStarters } from '../../api/queries';
import type { Tell } from './model';
import { useSurroundings } from './surroundings';
import { RemoveButton } from '../../parts/RemoveButton';

const noTells: Tell[] = [];

interface TellsProps {
  tell: Tell[] | undefined;
  path: string;
  where: string;
}

/** Whom a part of the sheet tells, and what. */
export const Tells = memo(function Tells({ tell = noTells, path, where }: TellsProps) {
  const { put, messages: names } = useSurroundings();
  // What tells nobody otherwise is left out.
  const change = (next: Tell[]) =>
    path === 'route.otherwise'
      ? put(path, next.length ? { tell: next } : undefined)
      : put(`${path}.tell`, next);
  const { readOnly } = useSurroundings();
  const { channel } = useStarters();
  const destinations = useDestinations();
  // Whether it would take a post is asked when it is chosen, so that it is said here and not by a refusal.
  const ask = useAct(
    (name: string) => answerOf(api.POST('/api/destinations/ask', { body: { name } })),
    ['destinations', 'trail'],
  );
  const set = (i: number, next: Partial<Tell>) =>
    change(tell.map((t, j) => (j === i ? { ...t, ...next } : t)));
  const places = (destinations.data?.items ?? []).map((d) => ({
    value: d.name,
    label: `${d.title}${d.private ? ' (private)' : ''}${d.paused ? ' (paused)' : d.shut ? ' (would refuse)' : ''}`,
  }));
  return (
    <span className="tells">
      {tell.map((t, i) => (
        <span key={i} className="tell">
          <span className="muted">tell</span>
          <Select
            className="channel-select"
            aria-label={`Channel ${i + 1} of ${where}`}
            disabled={readOnly}
            showSearch={{ optionFilterProp: 'label' }}
            popupMatchSelectWidth={false}
            value={t.to}
            options={
              places.some((p) => p.value === t.to) ? places : [...places, { value: t.to, label: t.to }]
            }
            onChange={(to) => {
              set(i, { to });
              ask.mutate(to);
            }}
          />
          {names.length > 1 && (
            <Select
              className="message-select"
              aria-label={`Message for channel ${i + 1} of ${where}`}
              disabled={readOnly}
              value={t.message}
              options={names.map((n) => ({ value: n, label: n }))}
              onChange={(message) => set(i, { message })}
            />
          )}
          {names.length > 1 && (t.reply || !readOnly) && (
            <Select
              className="message-select"
              variant={t.reply ? 'outlined' : 'borderless'}
              aria-label={`Reply in the thread for channel ${i + 1} of ${where}`}
              disabled={readOnly}
              popupMatchSelectWidth={false}
              value={t.reply ?? ''}
              options={[
                { value: '', label: 'no reply' },
                ...names.filter((n) => n !== t.message).map((n) => ({ value: n, label: `then ${n}` })),
              ]}
              onChange={(reply) => set(i, { reply: reply || undefined })}
            />
          )}
          {!readOnly && (destinations.data?.items ?? []).some((d) => d.name === t.to && d.shut) && (
            <Button size="small" loading={ask.isPending} onClick={() => ask.mutate(t.to)}>
              Ask again
            </Button>
          )}
          {!readOnly && tell.length > 1 && (
            <RemoveButton
              label={`Stop telling channel ${i + 1} of ${where}`}
              remove={() => change(tell.filter((_, j) => j !== i))}
            />
          )}
        </span>
      ))}
      {!readOnly && (
        <Button
          type="text"
          size="small"
          aria-label={`Tell another channel of ${where}`}
          onClick={() => change([...tell, { to: channel, message: names[0] ?? 'alert' }])}
        >
          +
        </Button>
      )}
    </span>
  );
});
