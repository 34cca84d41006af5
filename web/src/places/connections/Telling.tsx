import { App, Button, Input, Typography } from 'antd';
import { useState } from 'react';
import { useAct } from '../../api/act';
import { api, answerOf, type ConnectionDetail, type ConnectionKind } from '../../api/client';
import { Attempts } from '../../parts/Attempts';
import { Band } from '../../parts/Band';
import { Trouble } from '../../parts/Trouble';
import { forms } from './forms';

interface Props {
  c: ConnectionDetail;
  kind: ConnectionKind;
  secret: string | undefined;
  editor: boolean;
}

const cans: Record<string, string> = {
  edit: 'change what was sent',
  reply: 'answer in a thread',
  sender: 'show another sender',
  picture: 'show pictures',
  buttons: 'have buttons',
  attach: 'carry files',
  mention: 'speak to persons',
};

/** What posts can go over the connection, and one post to try it. */
export function Telling({ c, kind, secret: first, editor }: Props) {
  const sends = c.sends!;
  const can = (sends.can ?? []).map((a) => cans[a] ?? a);
  return (
    <Band label="Tells" hint="posts that go there">
      <div className="bandbody">
        {sends.mute ? (
          <p className="brass">△ {sends.mute}</p>
        ) : (
          <>
            <p>
              {sends.listed
                ? `${(c.sources ?? []).join(', ') || 'No place yet'}.`
                : `To ${forms[sends.form] ?? 'any place'}.`}{' '}
              <span className="muted">
                {can.length
                  ? `Besides sending, it can ${can.join(', ')}.`
                  : 'It can send, and nothing besides.'}
              </span>
            </p>
            {kind.name === 'push' && <Feeds c={c} />}
            {kind.name === 'text' && <Reports c={c} />}
            {kind.name === 'event' && <Secret c={c} first={first} editor={editor} />}
            {editor && <TrialPost c={c} />}
          </>
        )}
      </div>
    </Band>
  );
}

/** One post, sent at once, with what the other side answered. */
function TrialPost({ c }: { c: ConnectionDetail }) {
  const sends = c.sends!;
  const places = sends.listed ? (c.sources ?? []).map((s) => s.slice(s.indexOf('/') + 1)) : [];
  const [place, setPlace] = useState(places[0] ?? '');
  const send = useAct(
    () =>
      answerOf(api.POST('/api/connections/{id}/trial', { params: { path: { id: c.id } }, body: { place } })),
    [],
    undefined,
    'in place',
  );
  const r = send.data;
  return (
    <div>
      <form
        className="inline"
        onSubmit={(e) => {
          e.preventDefault();
          send.mutate();
        }}
      >
        <span>One post to try it, to</span>
        <Input
          className="wide-select"
          aria-label="Where the trial goes"
          list="trial-places"
          value={place}
          placeholder={
            sends.form === 'mail'
              ? 'your own address'
              : sends.form === 'number'
                ? 'your own number'
                : 'a place'
          }
          onChange={(e) => setPlace(e.target.value)}
        />
        <datalist id="trial-places">
          {places.map((p) => (
            <option key={p} value={p} />
          ))}
        </datalist>
        <Button htmlType="submit" disabled={!place.trim()} loading={send.isPending}>
          Send it
        </Button>
      </form>
      {send.error && <Trouble error={send.error} />}
      {r && (
        <>
          <p className={r.taken ? 'good' : 'bad'}>
            {r.taken ? '✓ It was taken.' : '✕ It was not taken.'} {r.answer}{' '}
            {r.link && (
              <a href={r.link} target="_blank" rel="noreferrer">
                Look at the post
              </a>
            )}
          </p>
          <Attempts
            state={r.taken ? 'sent' : 'refused'}
            tried={[
              {
                at: new Date().toISOString(),
                took_ms: 0,
                status: r.status,
                address: r.address,
                sent: r.sent,
                answer: r.raw,
              },
            ]}
          />
        </>
      )}
    </div>
  );
}

const Copied = ({ text }: { text: string }) => (
  <Typography.Text className="mono" copyable>
    {text}
  </Typography.Text>
);

/** The addresses that the feed is read at. */
function Feeds({ c }: { c: ConnectionDetail }) {
  return (
    <div>
      <p>
        Whoever has one of these addresses can read what is told; in the place of all, a place gives its own
        alone.
      </p>
      <p>
        Atom feed: <Copied text={`${c.address}/all.atom`} />
      </p>
      <p>
        Calendar: <Copied text={`${c.address}/all.ics`} />
      </p>
      <Renew
        c={c}
        title="Another address?"
        label="Make another address"
        content="Whoever reads the feed at the address before finds nothing there any more."
      />
    </div>
  );
}

/** Where the gateway reports what became of messages. */
function Reports({ c }: { c: ConnectionDetail }) {
  return (
    <p>
      Have the gateway report what became of messages to <Copied text={c.address} />
      <span className="muted"> · reports are arrivals of {c.id}/reports</span>
    </p>
  );
}

/** The secret that events are signed by: shown once, renewed with both valid for a while. */
function Secret({ c, first, editor }: { c: ConnectionDetail; first: string | undefined; editor: boolean }) {
  const [fresh, setFresh] = useState(first);
  return (
    <div>
      {fresh ? (
        <p>
          The other side checks the signatures with this secret (Standard Webhooks). It is not shown again:{' '}
          <Copied text={fresh} />
        </p>
      ) : (
        <p>Every event is signed by Standard Webhooks.</p>
      )}
      {editor && (
        <Renew
          c={c}
          title="A new secret?"
          label="Make a new secret"
          content="For a day events are signed by both, so that the other side can be told in peace."
          done={setFresh}
        />
      )}
    </div>
  );
}

interface RenewProps {
  c: ConnectionDetail;
  title: string;
  label: string;
  content: string;
  done?: (secret: string | undefined) => void;
}

function Renew({ c, title, label, content, done }: RenewProps) {
  const { modal } = App.useApp();
  const renew = useAct(
    () =>
      answerOf(api.PATCH('/api/connections/{id}', { params: { path: { id: c.id } }, body: { renew: true } })),
    ['connections'],
    (made) => done?.(made.secret),
  );
  return (
    <Button
      size="small"
      loading={renew.isPending}
      onClick={() =>
        void modal.confirm({
          title,
          content,
          okText: label,
          onOk: () => renew.mutateAsync().catch(() => undefined),
        })
      }
    >
      {label}
    </Button>
  );
}
