import './people.css';
import { useInfiniteQuery } from '@tanstack/react-query';
import { App, Button, Input, Select } from 'antd';
import { useState } from 'react';
import { useAct, useMayKeepBook } from '../../api/act';
import { api, answerOf, type Schemas } from '../../api/client';
import { More } from '../../parts/More';
import { RemoveButton } from '../../parts/RemoveButton';
import { Trouble } from '../../parts/Trouble';
import { BookImport } from './BookImport';
import { BookSource } from './BookSource';

type Person = Schemas['BookItem'];

/** The people book: who is who, and where each is reached. */
export function Book() {
  const mayEdit = useMayKeepBook();
  const [q, setQ] = useState('');
  const [editing, setEditing] = useState<string>();
  const list = useInfiniteQuery({
    queryKey: ['people-book', 'list', q],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      answerOf(api.GET('/api/people-book', { params: { query: { q: q || undefined, from: pageParam } } })),
    getNextPageParam: (last) => last.next || undefined,
  });
  const first = list.data?.pages[0];
  const items = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const connections = first?.connections ?? [];
  const columns = [...new Set([...connections, ...items.flatMap((p) => Object.keys(p.addresses))])].filter(
    (c) => items.some((p) => p.addresses[c]) || c === editing,
  );
  const entered = first !== undefined && !first.source.source;
  if (list.error) return <Trouble error={list.error} again={() => void list.refetch()} />;
  return (
    <main className="place" id="place">
      <div className="place-head">
        <h1>People book</h1>
        <p className="lead">
          Whom sheets can name: each person with an address on each connection.
          {!mayEdit && ' Administrators change it, and whoever they let keep it.'}
        </p>
      </div>
      <section className="band">
        <h2 className="band-label">Persons</h2>
        <div className="band-body">
          <div className="inline">
            <Input
              className="wide-select"
              aria-label="Look for a person"
              placeholder="Look for a name or an address"
              value={q}
              onChange={(e) => setQ(e.target.value)}
            />
            {mayEdit && entered && <Button onClick={() => setEditing('')}>Enter a person</Button>}
            {items.length > 0 && <a href="/api/people-book.csv">Save as a table</a>}
          </div>
          {editing === '' && <PersonForm connections={connections} done={() => setEditing(undefined)} />}
          {items.length > 0 && (
            <table className="ledger">
              <thead>
                <tr>
                  <th>Id</th>
                  <th>Name</th>
                  <th>Prefers</th>
                  {columns.map((c) => (
                    <th key={c}>{c}</th>
                  ))}
                  {mayEdit && entered && <td />}
                </tr>
              </thead>
              <tbody>
                {items.map((p) =>
                  editing === p.id ? (
                    <tr key={p.id}>
                      <td colSpan={columns.length + 4}>
                        <PersonForm person={p} connections={connections} done={() => setEditing(undefined)} />
                      </td>
                    </tr>
                  ) : (
                    <Row
                      key={p.id}
                      p={p}
                      columns={columns}
                      edit={mayEdit && entered ? () => setEditing(p.id) : undefined}
                    />
                  ),
                )}
              </tbody>
            </table>
          )}
          {first && items.length === 0 && editing === undefined && (
            <p className="muted">
              {q
                ? 'Nobody is called so. Look for a part of a name, an id or an address.'
                : 'Nobody is in the people book yet. Enter a person, read in a table or vCards, or choose a source whose records are the people.'}
            </p>
          )}
          <More of={list} />
        </div>
      </section>
      {mayEdit && first && (
        <>
          {entered && <BookImport connections={connections} />}
          <BookSource chosen={first.source} connections={connections} />
        </>
      )}
    </main>
  );
}

interface RowProps {
  p: Person;
  columns: string[];
  edit: (() => void) | undefined;
}

function Row({ p, columns, edit }: RowProps) {
  const { modal } = App.useApp();
  const remove = useAct(
    () => answerOf(api.DELETE('/api/people-book/{id}', { params: { path: { id: p.id } } })),
    ['people-book', 'audit'],
  );
  return (
    <tr>
      <td className="mono small">{p.id}</td>
      <td>
        {edit ? (
          <Button type="link" size="small" onClick={edit}>
            {p.name || p.id}
          </Button>
        ) : (
          p.name || p.id
        )}
      </td>
      <td className={p.prefers && p.wrong[p.prefers] ? 'bad' : ''}>{p.prefers}</td>
      {columns.map((c) => (
        <td key={c} className={p.wrong[c] ? 'bad' : ''}>
          {p.wrong[c] && '✕ '}
          {p.addresses[c]}
          {p.wrong[c] && <span className="small"> {p.wrong[c]}</span>}
        </td>
      ))}
      {edit && (
        <td>
          <RemoveButton
            label={`Take ${p.name || p.id} out of the book`}
            remove={() =>
              void modal.confirm({
                title: `Take ${p.name || p.id} out of the book?`,
                content: 'What is to be told to them fails from then on, and says so.',
                okText: 'Take them out',
                onOk: () => remove.mutateAsync().catch(() => undefined),
              })
            }
          />
        </td>
      )}
    </tr>
  );
}

interface FormProps {
  person?: Person;
  connections: string[];
  done: () => void;
}

/** One person, entered or changed. */
function PersonForm({ person, connections, done }: FormProps) {
  const [id, setId] = useState(person?.id ?? '');
  const [name, setName] = useState(person?.name ?? '');
  const [prefers, setPrefers] = useState(person?.prefers ?? '');
  const [addresses, setAddresses] = useState<Record<string, string>>(person?.addresses ?? {});
  const has = Object.keys(addresses).filter((c) => addresses[c]?.trim());
  const own = id.trim() || name.trim();
  const save = useAct(
    () =>
      answerOf(
        api.PUT('/api/people-book/{id}', {
          params: { path: { id: own } },
          body: { name, prefers: has.includes(prefers) ? prefers : (has[0] ?? ''), addresses },
        }),
      ),
    ['people-book', 'audit'],
    done,
    'in place',
  );
  return (
    <form
      className="personform"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <div className="inline">
        <Input
          className="side-select"
          aria-label="Name of the person"
          placeholder="Name"
          autoFocus
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Input
          className="side-select"
          aria-label="Id of the person"
          placeholder={name || 'id, as records name them'}
          disabled={person !== undefined}
          value={id}
          onChange={(e) => setId(e.target.value)}
        />
        {[...new Set([...connections, ...Object.keys(addresses)])].map((c) => (
          <Input
            key={c}
            className="side-select"
            prefix={<span className="muted">{c}</span>}
            aria-label={`Address on ${c}`}
            value={addresses[c] ?? ''}
            onChange={(e) => setAddresses({ ...addresses, [c]: e.target.value })}
          />
        ))}
        {has.length > 1 && (
          <Select
            aria-label="Prefers"
            popupMatchSelectWidth={false}
            value={has.includes(prefers) ? prefers : has[0]}
            options={has.map((c) => ({ value: c, label: `prefers ${c}` }))}
            onChange={setPrefers}
          />
        )}
        <Button type="primary" htmlType="submit" disabled={!own} loading={save.isPending}>
          Keep
        </Button>
        <Button type="text" onClick={done}>
          Leave it
        </Button>
      </div>
      {save.error && <Trouble error={save.error} />}
    </form>
  );
}
