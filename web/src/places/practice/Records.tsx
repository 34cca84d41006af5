import { App, Button, Form, Input, Modal, Select } from 'antd';
import { useState } from 'react';
import type { FieldItem } from '../../api/client';
import { useFields, useMe } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { Gate } from './Gate';
import { useChange, useRecords, type AppKind, type PracticeRecord } from './usePractice';

/** The columns that say most about a record of each kind; the rest is seen on editing. */
const columns: Record<string, string[]> = {
  collections: ['id', 'farm_name', 'driver', 'litres', 'temperature', 'status'],
  samples: ['id', 'farm_name', 'valley', 'cells', 'verdict'],
  batches: ['id', 'cheese', 'wheels', 'humidity', 'status'],
  orders: ['id', 'customer', 'amount', 'currency', 'status'],
  jobs: ['id', 'vehicle', 'fault', 'urgency', 'status'],
};

const show = (v: unknown) =>
  v === undefined || v === null ? '' : typeof v === 'object' ? JSON.stringify(v) : String(v);

export function Records({ of }: { of: AppKind }) {
  const [q, setQ] = useState('');
  const records = useRecords(of.app, of.kind, q);
  const fields = useFields(`${of.app}/${of.kind}`);
  const [edited, setEdited] = useState<PracticeRecord>();
  const change = useChange(of.app, of.kind);
  const { message } = App.useApp();
  const me = useMe();
  const all = fields.data?.items ?? [];
  const named = columns[of.kind] ?? all.slice(0, 5).map((f) => f.name);
  const shown = named.map((n) => all.find((f) => f.name === n)).filter((f): f is FieldItem => !!f);
  const save = (key: string, next: PracticeRecord) =>
    change.mutate({ key, fields: next }, { onError: (e) => void message.error(e.message) });
  const viewer = me.data?.role === 'viewer';

  return (
    <>
      <Input.Search
        allowClear
        aria-label="Search records"
        placeholder="Search"
        className="practice-search"
        onSearch={setQ}
      />
      {of.app === 'counter' && of.kind === 'orders' && <Gate app={of.app} />}
      {change.isPending && <p className="muted small">Saving…</p>}
      {records.error && <Trouble error={records.error} again={() => void records.refetch()} />}
      <table className="ledger records">
        <thead>
          <tr>
            {shown.map((f) => (
              <th key={f.name} className={f.type === 'number' || f.type === 'money' ? 'num' : ''}>
                {f.label}
              </th>
            ))}
            <td />
          </tr>
        </thead>
        <tbody>
          {(records.data?.items ?? []).map((r) => {
            const key = show(r[of.key]);
            return (
              <tr key={key} data-key={key}>
                {shown.map((f) => (
                  <td key={f.name} className={f.type === 'number' || f.type === 'money' ? 'num' : ''}>
                    {f.type === 'choice' && f.name !== 'valley' && f.name !== 'currency' && !viewer ? (
                      <Select
                        size="small"
                        variant="borderless"
                        aria-label={`${f.label} of ${key}`}
                        popupMatchSelectWidth={false}
                        value={show(r[f.name])}
                        options={(f.options ?? []).map((o) => ({ value: o, label: o }))}
                        onChange={(v) => save(key, { [f.name]: v })}
                      />
                    ) : (
                      show(r[f.name])
                    )}
                  </td>
                ))}
                <td>
                  {!viewer && (
                    <Button size="small" type="text" onClick={() => setEdited(r)} aria-label={`Edit ${key}`}>
                      Edit
                    </Button>
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {edited && (
        <EditRecord
          record={edited}
          fields={all.filter((f) => f.name !== of.key)}
          title={`${of.title}: ${show(edited[of.key])}`}
          close={() => setEdited(undefined)}
          save={(next) => save(show(edited[of.key]), next)}
        />
      )}
    </>
  );
}

interface EditProps {
  record: PracticeRecord;
  fields: FieldItem[];
  title: string;
  close: () => void;
  save: (fields: PracticeRecord) => void;
}

function EditRecord({ record, fields, title, close, save }: EditProps) {
  const editable = fields.filter((f) => !['list', 'choices', 'object', 'link'].includes(f.type));
  const finish = (values: Record<string, string>) => {
    const next: PracticeRecord = {};
    for (const f of editable) {
      const typed = (values[f.name] ?? '').trim();
      if (typed === show(record[f.name])) continue;
      const counted = f.type === 'number' || f.type === 'money';
      next[f.name] =
        typed === ''
          ? null
          : counted && Number.isFinite(Number(typed))
            ? Number(typed)
            : f.type === 'yes/no'
              ? typed === 'true'
              : typed;
    }
    if (Object.keys(next).length > 0) save(next);
    close();
  };
  return (
    <Modal open title={title} footer={null} onCancel={close} width={520}>
      <Form
        labelCol={{ span: 8 }}
        requiredMark={false}
        initialValues={Object.fromEntries(editable.map((f) => [f.name, show(record[f.name])]))}
        onFinish={(v) => finish(v as Record<string, string>)}
      >
        {editable.map((f) => (
          <Form.Item key={f.name} name={f.name} label={f.label} className="tight">
            {f.options?.length ? (
              <Select options={f.options.map((o) => ({ value: o, label: o }))} />
            ) : (
              <Input />
            )}
          </Form.Item>
        ))}
        <Button type="primary" htmlType="submit">
          Save
        </Button>
      </Form>
    </Modal>
  );
}
