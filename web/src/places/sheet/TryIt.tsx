import { useAct } from '../../api/act';
import { App, Button, Select } from 'antd';
import { useContext, useState } from 'react';
import { api, answerOf } from '../../api/client';
import { useStarters } from '../../api/queries';
import { usePlaces } from './reach';
import { channelOf } from './model';
import { Trial, useSurroundings } from './surroundings';

/** Whoever presses it, by the address in the people book, else by mail. */
const yourself = 'me/';

/** Sends what the draft makes of the chosen arrival to one channel, marked as a trial. */
export function TryIt({ message: name }: { message: string }) {
  const { readOnly } = useSurroundings();
  const tryOn = useContext(Trial);
  const { message } = App.useApp();
  const practice = useStarters().channel;
  const places = usePlaces();
  const [to, setTo] = useState('');
  const place = to || practice || yourself;
  const send = useAct(
    () =>
      answerOf(
        api.POST('/api/workflows/{id}/try', {
          params: { path: { id: tryOn!.id } },
          body: {
            sheet: tryOn!.sheet,
            arrival: tryOn!.arrival,
            record: tryOn!.record,
            message: name,
            to: place,
          },
        }),
      ),
    [],
    (r) =>
      void message.success(
        `${r.posts === 1 ? 'One post' : `${r.posts} posts`} on the way to ${channelOf(r.to)}, marked as a trial.`,
      ),
  );
  if (readOnly || !tryOn || !place) return null;
  return (
    <div className="inline tryit">
      <Button size="small" loading={send.isPending} onClick={() => send.mutate()}>
        Try it
      </Button>
      <span className="muted">in</span>
      <Select
        size="small"
        aria-label="Where to try it"
        className="channel-select"
        popupMatchSelectWidth={false}
        value={place}
        options={[
          { value: yourself, label: 'Yourself' },
          ...places.map((g) => ({ label: g.title, title: g.title, options: g.options })),
        ]}
        onChange={setTo}
      />
    </div>
  );
}
