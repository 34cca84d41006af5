import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Button, Checkbox, Form, Input, Modal, Typography } from 'antd';
import { useState } from 'react';
import { api, said, type Schemas } from '../../api/client';
import { useConnections, useMe } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { agoOf } from '../../parts/times';

export function Connections() {
  const connections = useConnections();
  const me = useMe();
  const [making, setMaking] = useState(false);
  const items = connections.data?.items ?? [];
  return (
    <main className="place" id="place">
      <div className="place-head">
        <h1>Connections</h1>
        <p className="lead">Apps that send their changes here, and chats that posts go to</p>
        {me.data?.role === 'administrator' || me.data?.role === 'editor' ? (
          <Button type="primary" onClick={() => setMaking(true)}>
            New hook
          </Button>
        ) : null}
      </div>
      {connections.error && <Trouble error={connections.error} again={() => void connections.refetch()} />}
      <table className="ledger">
        <thead>
          <tr>
            <th>Connection</th>
            <th>Kind</th>
            <th>Address</th>
            <th>Kinds of record, channels</th>
            <th className="num">Last 24 hours</th>
            <th>Last heard</th>
          </tr>
        </thead>
        <tbody>
          {items.map((c) => (
            <tr key={c.id}>
              <td>
                <strong>{c.title}</strong>
                <div className="muted small">{c.id}</div>
              </td>
              <td>
                {c.kind}
                {c.kind === 'hook' && <div className="muted small">{c.signed ? 'signed' : 'not signed'}</div>}
              </td>
              <td>
                <Typography.Text className="mono small" copyable={c.kind === 'hook'}>
                  {c.address}
                </Typography.Text>
              </td>
              <td>
                {(c.sources ?? []).map((s) => s.slice(s.indexOf('/') + 1)).join(', ') || (
                  <span className="muted">none yet</span>
                )}
              </td>
              <td className="num">{c.kind === 'hook' ? c.today : ''}</td>
              <td>{c.kind === 'hook' ? agoOf(c.last_arrival) : ''}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {making && <NewHook close={() => setMaking(false)} />}
    </main>
  );
}

type HookBody = Schemas['HookInputBody'];

function NewHook({ close }: { close: () => void }) {
  const cache = useQueryClient();
  const make = useMutation({
    mutationFn: (body: HookBody) => said(api.POST('/api/connections', { body })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['connections'] }),
  });
  const made = make.data;
  return (
    <Modal
      open
      title={made ? `${made.title} can send now` : 'New hook'}
      footer={null}
      onCancel={close}
      width={640}
    >
      {made ? (
        <>
          <p>Send events to this address:</p>
          <Typography.Paragraph copyable className="mono">
            {made.address}/KIND
          </Typography.Paragraph>
          {made.secret && (
            <>
              <p>Sign them (Standard Webhooks) with this secret. It is not shown again.</p>
              <Typography.Paragraph copyable className="mono">
                {made.secret}
              </Typography.Paragraph>
            </>
          )}
          {!made.secret && (
            <>
              <p>Try it:</p>
              <Typography.Paragraph copyable className="mono">
                {`curl -H 'Content-Type: application/json' -d '{"${made.key_field}":"A-1","status":"new"}' ${made.address}/things`}
              </Typography.Paragraph>
            </>
          )}
        </>
      ) : (
        <Form
          layout="vertical"
          requiredMark={false}
          onFinish={(v) => make.mutate(v as HookBody)}
          initialValues={{ key_field: 'id' }}
        >
          <Form.Item
            label="Title"
            name="title"
            rules={[{ required: true, message: 'How people call the app' }]}
          >
            <Input autoFocus />
          </Form.Item>
          <Form.Item
            label="Short name"
            name="id"
            extra="The first part of its sources, such as tours in tours/collections"
            rules={[
              {
                required: true,
                pattern: /^[a-z0-9][a-z0-9-]*$/,
                message: 'Lower-case letters, digits and hyphens',
              },
            ]}
          >
            <Input />
          </Form.Item>
          <Form.Item label="Field that names a record" name="key_field">
            <Input />
          </Form.Item>
          <Form.Item name="signed" valuePropName="checked">
            <Checkbox>Take in only signed events</Checkbox>
          </Form.Item>
          {make.error && <Trouble error={make.error} />}
          <Button type="primary" htmlType="submit" loading={make.isPending}>
            Make the address
          </Button>
        </Form>
      )}
    </Modal>
  );
}
