import { Listed } from '../../parts/Listed';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { Select } from 'antd';
import { useState } from 'react';
import { api, answerOf, type Schemas } from '../../api/client';
import { More } from '../../parts/More';
import { clockOf, dayOf, fullOf } from '../../parts/times';

type What = (typeof kinds)[number];
const kinds = [
  'workflow',
  'connection',
  'source',
  'post',
  'destination',
  'person',
  'team',
  'invitation',
  'person of the people book',
  'choice',
] as const;

/** Who changed what, with before and after. */
export function ChangesMade({ people }: { people: Schemas['PersonItem'][] }) {
  const [what, setWhat] = useState<What>();
  const [person, setPerson] = useState<number>();
  const list = useInfiniteQuery({
    queryKey: ['audit', what, person],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      answerOf(
        api.GET('/api/audit', {
          params: { query: { what, person, before: pageParam || undefined, limit: 25 } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: keepPreviousData,
  });
  const items = list.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <section className="band">
      <h2 className="band-label">Changes</h2>
      <div className="band-body">
        <div className="inline">
          <Select
            className="side-select"
            aria-label="Changes of"
            allowClear
            placeholder="of everything"
            value={what}
            options={kinds.map((k) => ({ value: k, label: k }))}
            onChange={(v?: What) => setWhat(v)}
          />
          <Select
            className="side-select"
            aria-label="Changes by"
            allowClear
            placeholder="by everyone"
            value={person}
            options={people.map((p) => ({ value: p.id, label: p.name }))}
            onChange={(v?: number) => setPerson(v)}
          />
        </div>
        <Listed of={list} count={items.length}>
          <p className="muted">Nothing has been changed that fits.</p>
        </Listed>
        {items.length > 0 && (
          <table className="ledger">
            <tbody>
              {items.map((c) => (
                <tr key={c.id}>
                  <td className="when" title={fullOf(c.at)}>
                    {dayOf(c.at)} {clockOf(c.at)}
                  </td>
                  <td>{c.name}</td>
                  <td>
                    <details>
                      <summary>
                        {c.words || c.did}: {c.what} <b>{c.title}</b>
                      </summary>
                      <dl className="beforeafter">
                        {(c.fields ?? []).map((f) => (
                          <div key={f.field}>
                            <dt>{f.field.replaceAll('_', ' ')}</dt>
                            <dd>
                              {f.was && <s>{f.was}</s>} <span>{f.now || '(empty)'}</span>
                            </dd>
                          </div>
                        ))}
                      </dl>
                    </details>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        <More of={list} />
      </div>
    </section>
  );
}
