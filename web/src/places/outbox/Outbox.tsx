import { Listed } from '../../parts/Listed';
import { ChoiceFilter, FilterHead, TextFilter, useFilters } from '../../parts/FilterHead';
import './outbox.css';
import { useMayEdit } from '../../api/act';
import { useState } from 'react';
import { useDestinations, usePosts, type PostFilter } from '../../api/queries';
import { More } from '../../parts/More';
import { Nothing } from '../../parts/Nothing';
import { ActBar } from './ActBar';
import { Destinations } from './Destinations';
import { PostRow } from './PostRow';

const states = ['waiting', 'held', 'sent', 'refused', 'given up', 'dropped', 'expired'] as const;

/** All posts, by state and destination; what each destination bears and what it is held to. */
export function Outbox() {
  const { get, set: narrow } = useFilters();
  const filter: PostFilter = {
    state: get('state') as PostFilter['state'],
    destination: get('destination'),
    q: get('q'),
    post: Number(get('post')) || undefined,
  };
  const posts = usePosts(filter);
  const destinations = useDestinations();
  const editor = useMayEdit();
  const [chosen, setChosen] = useState<Set<number>>(new Set());
  const [open, setOpen] = useState(filter.post ?? 0);
  const set = (name: string, value: string | undefined) => {
    narrow(name, value, 'post');
    setChosen(new Set());
  };
  const items = posts.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  const choosable = items.filter((p) => p.state !== 'sent');
  const toggle = (id: number) =>
    setChosen((was) => {
      const next = new Set(was);
      if (!next.delete(id)) next.add(id);
      return next;
    });
  const all = choosable.length > 0 && choosable.every((p) => chosen.has(p.id));
  return (
    <main className="place" id="place">
      <FilterHead title="Outbox">
        <ChoiceFilter
          label="State"
          every="Every state"
          value={filter.state}
          values={states}
          set={(v) => set('state', v)}
        />
        <ChoiceFilter
          label="Destination"
          every="Every destination"
          wide
          value={filter.destination}
          values={(destinations.data?.items ?? []).map((d) => d.name)}
          set={(v) => set('destination', v)}
        />
        <TextFilter label="Text in the title" value={filter.q} set={(v) => set('q', v)} />
        {filter.post && (
          <button type="button" className="plainbutton" onClick={() => set('post', undefined)}>
            One post is shown; show all
          </button>
        )}
      </FilterHead>
      <Destinations
        items={destinations.data?.items ?? []}
        chosen={filter.destination}
        choose={(name) => set('destination', name)}
        editor={editor}
      />
      {editor && <ActBar chosen={items.filter((p) => chosen.has(p.id))} clear={() => setChosen(new Set())} />}
      <table className="ledger outbox">
        <thead>
          <tr>
            {editor && (
              <td>
                <input
                  type="checkbox"
                  aria-label="Choose every post shown that is not sent"
                  checked={all}
                  disabled={choosable.length === 0}
                  onChange={() => setChosen(all ? new Set() : new Set(choosable.map((p) => p.id)))}
                />
              </td>
            )}
            <th>State</th>
            <th>When</th>
            <th>Destination</th>
            <th>Message</th>
            <th>Workflow</th>
            <th>Answer</th>
          </tr>
        </thead>
        <tbody>
          {items.map((p) => (
            <PostRow
              key={p.id}
              p={p}
              editor={editor}
              chosen={chosen.has(p.id)}
              choose={() => toggle(p.id)}
              open={open === p.id}
              toggle={() => setOpen((was) => (was === p.id ? 0 : p.id))}
            />
          ))}
        </tbody>
      </table>
      <Listed of={posts} count={items.length}>
        <Nothing fits="No post fits." yet="Nothing has been told yet." />
      </Listed>
      <More of={posts} />
    </main>
  );
}
