import { App, Button, Typography } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import { useAct } from '../../api/act';
import { api, answerOf, type ConnectionDetail } from '../../api/client';
import { clockOf, dayOf } from '../../parts/times';
import { Band } from '../../parts/Band';
import { HookReading } from './HookReading';

interface Props {
  c: ConnectionDetail;
  secret: string | undefined;
  editor: boolean;
}

/** Where calls come in, how to send one, and the last ones with what was wrong with each. */
export function HookBand({ c, secret: first, editor }: Props) {
  const { modal } = App.useApp();
  const renew = useAct(
    () =>
      answerOf(api.PATCH('/api/connections/{id}', { params: { path: { id: c.id } }, body: { renew: true } })),
    ['connections'],
  );
  if (!c.signs)
    return (
      <Band label="Address" hint="of the page">
        <div className="bandbody">
          <Typography.Text className="mono" copyable>
            {c.address}
          </Typography.Text>{' '}
          <a href={c.address} target="_blank" rel="noreferrer">
            Open the page
          </a>
          {editor && c.reads?.[0] && (
            <>
              {' · '}
              <Link to={`/sources/${c.reads[0].source}`}>Change its questions</Link>
            </>
          )}
        </div>
      </Band>
    );
  const secret = renew.data?.secret ?? first;
  const curl = c.signed
    ? signedCurl(c.address ?? '', c.key_field ?? 'id', secret)
    : `curl -H 'Content-Type: application/json' -d '${sampleEvent(c.key_field ?? 'id')}' ${c.address}/orders`;
  return (
    <Band label="Address" hint="send events here">
      <div className="bandbody">
        <Typography.Text className="mono" copyable={{ text: c.address }}>
          {c.address}/KIND
        </Typography.Text>
        {secret && (
          <p>
            Sign with this secret (Standard Webhooks). It is not shown again:{' '}
            <Typography.Text className="mono" copyable>
              {secret}
            </Typography.Text>
          </p>
        )}
        {c.signed && !secret && <p>Only signed events are taken in.</p>}
        <p className="trycall">
          Ready to try{c.signed && !secret && ', once SECRET is filled in'}:{' '}
          <Typography.Text className="mono" copyable={{ text: curl }}>
            {curl}
          </Typography.Text>
        </p>
        {editor && (
          <Button
            size="small"
            loading={renew.isPending}
            onClick={() =>
              void modal.confirm({
                title: c.signed ? `A new secret for ${c.title}?` : `Only signed events for ${c.title}?`,
                content: c.signed
                  ? 'What is signed with the old one is refused from that moment on, until the sender has the new one.'
                  : 'What comes unsigned is refused from that moment on, until the sender has the secret.',
                okText: 'Make the secret',
                onOk: () => renew.mutateAsync(),
              })
            }
          >
            {c.signed ? 'Make a new secret' : 'Take in only signed events'}
          </Button>
        )}
        {editor && <Unread c={c} />}
        <Requests c={c} />
      </div>
    </Band>
  );
}

const sampleEvent = (key: string) => `{"${key}":"A-1","status":"new","amount":1200}`;

/** A call signed by Standard Webhooks: HMAC-SHA256 over id, time and body, the key being the secret's base64 part. */
function signedCurl(address: string, key: string, secret = 'SECRET'): string {
  return `body='${sampleEvent(key)}' id=msg_$(date +%s%N) at=$(date +%s)
hex=$(printf %s '${secret}' | sed 's/^whsec_//' | base64 -d | od -An -v -tx1 | tr -d ' \\n')
mac=$(printf %s "$id.$at.$body" | openssl dgst -sha256 -mac HMAC -macopt hexkey:$hex -binary | base64)
curl -H "webhook-id: $id" -H "webhook-timestamp: $at" -H "webhook-signature: v1,$mac" -H 'Content-Type: application/json' -d "$body" ${address}/orders`;
}

/** Kinds of record of which the newest request was refused for want of a record or its key: how they are to be read. */
function Unread({ c }: { c: ConnectionDetail }) {
  const newest = new Map<string, { status: number; location: string }>();
  for (const r of c.requests ?? []) {
    const kind = r.path.split('/')[3];
    if (kind && !newest.has(kind)) newest.set(kind, r);
  }
  const unread = [...newest].filter(([, r]) => r.status === 400 && r.location.startsWith('/'));
  return unread.map(([kind]) => {
    const known = c.reads?.find((s) => s.source === `${c.id}/${kind}`);
    const record = known?.settings.record ?? c.settings.record ?? '';
    const key = known?.key_field ?? c.key_field ?? 'id';
    return (
      <div key={`${kind} ${record} ${key}`} className="unread">
        <HookReading source={`${c.id}/${kind}`} record={record} keyField={key} editor refused />
      </div>
    );
  });
}

function Requests({ c }: { c: ConnectionDetail }) {
  const list = c.requests ?? [];
  const [all, setAll] = useState(false);
  if (list.length === 0) return <p className="muted">Nothing has been sent to it yet.</p>;
  return (
    <>
      <table className="ledger requests" aria-label="The last requests">
        <thead>
          <tr>
            <th>When</th>
            <th>Answer</th>
            <th>What was wrong</th>
            <th>What was sent</th>
          </tr>
        </thead>
        <tbody>
          {list.slice(0, all ? list.length : 8).map((r) => (
            <tr key={r.id}>
              <td className="when">
                {dayOf(r.at)} {clockOf(r.at)}
              </td>
              <td className={r.status < 400 ? 'good' : 'bad'}>
                {r.status < 400 ? '✓' : '✕'} {r.status}
              </td>
              <td>
                {r.problem || <span className="muted">nothing</span>}
                {r.location && <div className="mono small">{r.location}</div>}
              </td>
              <td>
                <div className="muted small">
                  {r.path}, {r.media || 'no content type'}, {r.size} bytes
                </div>
                <div className="mono small bodyhead">{r.head}</div>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {list.length > 8 && (
        <Button size="small" onClick={() => setAll(!all)}>
          {all ? 'Fewer' : `All ${list.length}`}
        </Button>
      )}
    </>
  );
}
