import { useAct } from '../../api/act';
import { App, Button, Input } from 'antd';
import { api, answerOf, type Schemas } from '../../api/client';
import { counted } from '../../parts/counted';

/** Teams: a workflow that belongs to one is changed by its people. */
export function Teams({ items, admin }: { items: Schemas['TeamItem'][]; admin: boolean }) {
  const { modal } = App.useApp();
  const act = useAct((call: () => Promise<unknown>) => call(), ['teams', 'people', 'audit']);
  const remove = (t: Schemas['TeamItem']) =>
    modal.confirm({
      title: `Delete the team ${t.name}?`,
      content: `Its ${counted(t.workflows, 'workflow')} will belong to every editor.`,
      okText: 'Delete it',
      onOk: () =>
        act
          .mutateAsync(() => answerOf(api.DELETE('/api/teams/{id}', { params: { path: { id: t.id } } })))
          .catch(() => undefined),
    });
  return (
    <section className="band">
      <h2 className="band-label">Teams</h2>
      <div className="band-body">
        {items.length === 0 && (
          <p className="muted">There are none: every editor may change every workflow.</p>
        )}
        {items.length > 0 && (
          <table className="ledger">
            <tbody>
              {items.map((t) => (
                <tr key={t.id}>
                  <td>{t.name}</td>
                  <td>{t.people === 1 ? '1 person' : `${t.people} people`}</td>
                  <td>{t.workflows === 1 ? '1 workflow' : `${t.workflows} workflows`}</td>
                  {admin && (
                    <td>
                      <Button size="small" type="text" onClick={() => void remove(t)}>
                        Delete
                      </Button>
                    </td>
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {admin && (
          <Input
            className="wide-select"
            aria-label="Name of a new team"
            placeholder="+ team, then Enter"
            onPressEnter={(e) => {
              const name = e.currentTarget.value.trim();
              if (name) act.mutate(() => answerOf(api.POST('/api/teams', { body: { name } })));
              e.currentTarget.value = '';
            }}
          />
        )}
      </div>
    </section>
  );
}
