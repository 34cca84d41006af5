import { Button, Select } from 'antd';
import { memo, useMemo, useState } from 'react';
import { useAct } from '../../api/act';
import { api, answerOf } from '../../api/client';
import { useDestinations, useStarters } from '../../api/queries';
import { exchanged, dropped, type Tell } from './model';
import { eachNames } from './names';
import { useSurroundings } from './surroundings';
import { RemoveButton } from '../../parts/RemoveButton';
import { eachOf, TellMore } from './TellMore';
import { TellTo } from './TellTo';

const noTells: Tell[] = [];

interface TellsProps {
  tell: Tell[] | undefined;
  path: string;
  where: string;
}

/** Whom a part of the sheet tells, and what. */
export const Tells = memo(function Tells({ tell = noTells, path, where }: TellsProps) {
  const { put, messages: names, readOnly } = useSurroundings();
  // What tells nobody otherwise is left out.
  const change = (next: Tell[]) =>
    path === 'route.otherwise'
      ? put(path, next.length ? { tell: next } : undefined)
      : put(`${path}.tell`, next);
  const { channel } = useStarters();
  return (
    <span className="tells">
      {tell.map((t, i) => (
        <OneTell
          key={i}
          tell={t}
          label={`Channel ${i + 1} of ${where}`}
          id={`${path}-${i}`}
          change={(next) => change(exchanged(tell, i, next))}
          remove={tell.length > 1 ? () => change(dropped(tell, i)) : undefined}
        />
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

interface OneProps {
  tell: Tell;
  label: string;
  id: string;
  change: (next: Tell) => void;
  remove: (() => void) | undefined;
}

function OneTell({ tell: t, label, id, change, remove }: OneProps) {
  const { messages: names, readOnly, gathered } = useSurroundings();
  const destinations = useDestinations();
  const said = label.charAt(0).toLowerCase() + label.slice(1);
  const set = (next: Partial<Tell>) => {
    // What is taken away is left out, so that the sheet says only what it means.
    const all = Object.entries({ ...t, ...next }).filter(([, v]) => v !== undefined);
    change(Object.fromEntries(all) as unknown as Tell);
  };
  // Whether it would take a post is asked when it is chosen, so that it is said here and not by a refusal.
  const ask = useAct(
    (name: string) => answerOf(api.POST('/api/destinations/ask', { body: { name } })),
    ['destinations', 'trail'],
  );
  const listed = (destinations.data?.items ?? []).find((d) => d.name === t.to);
  const plain = !t.cc && !t.bcc && !t.each && !t.keep_up && t.if_empty !== 'skip';
  const [open, setOpen] = useState(!plain);
  const each = eachOf(t);
  const more = useMemo(() => {
    const { names } = eachNames(each, gathered);
    return names.length > 0 ? names : undefined;
  }, [each, gathered]);
  return (
    <span className="tell">
      <span className="muted">tell</span>
      <TellTo
        to={t.to}
        id={id}
        label={label}
        more={more}
        change={(to) => {
          set({ to });
          if ((destinations.data?.items ?? []).some((d) => d.name === to)) ask.mutate(to);
        }}
      />
      {names.length > 1 && (
        <Select
          className="message-select"
          aria-label={`Message for ${said}`}
          disabled={readOnly}
          value={t.message}
          options={names.map((n) => ({ value: n, label: n }))}
          onChange={(message) => set({ message })}
        />
      )}
      {names.length > 1 && (t.reply || !readOnly) && (
        <Select
          className="message-select"
          variant={t.reply ? 'outlined' : 'borderless'}
          aria-label={`Reply in the thread for ${said}`}
          disabled={readOnly}
          popupMatchSelectWidth={false}
          value={t.reply ?? ''}
          options={[
            { value: '', label: 'no reply' },
            ...names.filter((n) => n !== t.message).map((n) => ({ value: n, label: `then ${n}` })),
          ]}
          onChange={(reply) => set({ reply: reply || undefined })}
        />
      )}
      {!readOnly && listed?.shut && (
        <Button size="small" loading={ask.isPending} onClick={() => ask.mutate(t.to)}>
          Ask again
        </Button>
      )}
      {!readOnly && (
        <Button
          type="text"
          size="small"
          aria-expanded={open}
          aria-label={`More for ${said}`}
          onClick={() => setOpen(!open)}
        >
          …
        </Button>
      )}
      {remove && !readOnly && <RemoveButton label={`Stop telling ${said}`} remove={remove} />}
      {(open || (readOnly && !plain)) && <TellMore tell={t} id={id} label={said} more={more} set={set} />}
    </span>
  );
}
