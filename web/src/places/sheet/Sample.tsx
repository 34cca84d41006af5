import { useMutation } from '@tanstack/react-query';
import { App, Button, Drawer } from 'antd';
import { useRef, useState } from 'react';
import { api, answerOf } from '../../api/client';
import { sourcePath } from '../../api/queries';
import { RecordSearch } from '../../parts/RecordSearch';

interface Props {
  source: string;
  /** The newest arrival that is known. */
  after: number;
  choose: (seq: number, key?: string) => void;
}

/** Real records of the source: search them, prove the sheet on one, or wait for the next. Nothing is sent. */
export function Sample({ source, after, choose }: Props) {
  const { message } = App.useApp();
  const [open, setOpen] = useState(false);
  const stop = useRef<AbortController>(undefined);
  const listen = useMutation({
    mutationFn: async () => {
      stop.current = new AbortController();
      for (let n = 0; n < 12; n++) {
        const got = await answerOf(
          api.GET('/api/sources/{connection}/{kind}/next', {
            params: { path: sourcePath(source), query: { after } },
            signal: stop.current.signal,
          }),
        );
        if (got.arrival) return got.arrival;
      }
      return null;
    },
    onSuccess: (a) => {
      if (!a) return void message.info('Nothing came within five minutes.');
      choose(a.seq);
      setOpen(false);
      void message.success(`${a.key} came just now; the sheet is proved on it.`);
    },
  });
  if (!source.includes('/')) return null;
  const waiting = listen.isPending;
  return (
    <>
      <Button size="small" onClick={() => setOpen(true)}>
        Records
      </Button>
      <Drawer
        title={`Records of ${source}`}
        open={open}
        size={560}
        onClose={() => {
          stop.current?.abort();
          setOpen(false);
        }}
      >
        <p className="muted">Pick one to see what the sheet makes of it. Nothing is sent while looking.</p>
        <p className="inline">
          <Button loading={waiting} onClick={() => listen.mutate()}>
            {waiting ? 'Waiting for the next one…' : 'Wait for the next one'}
          </Button>
          {waiting && <Button onClick={() => stop.current?.abort()}>Stop waiting</Button>}
        </p>
        <RecordSearch
          source={source}
          pick={(r) => {
            choose(r.arrival, r.key);
            setOpen(false);
          }}
        />
      </Drawer>
    </>
  );
}
