import { useQuery } from '@tanstack/react-query';
import { Input } from 'antd';
import { useState } from 'react';
import { api, answerOf, type Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { PatternCard } from './PatternCard';

type Pattern = Schemas['Pattern'];

/** Those of the patterns that every word is found in, by their groups. */
export function found(patterns: Pattern[], words: string): [group: string, patterns: Pattern[]][] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const groups = new Map<string, Pattern[]>();
  for (const p of patterns) {
    const text = `${p.title} ${p.note} ${p.group}`.toLowerCase();
    if (wanted.every((w) => text.includes(w))) groups.set(p.group, [...(groups.get(p.group) ?? []), p]);
  }
  return [...groups];
}

/** The ready-made sheets, by what they are for. */
export function Patterns({ make }: { make: (sheet: unknown) => Promise<void> }) {
  const [words, setWords] = useState('');
  const patterns = useQuery({
    queryKey: ['patterns'],
    queryFn: () => answerOf(api.GET('/api/patterns')),
    staleTime: Infinity,
  });
  const groups = found(patterns.data?.items ?? [], words);
  return (
    <section className="band">
      <h2 className="band-label">Patterns</h2>
      {patterns.error && <Trouble error={patterns.error} again={() => void patterns.refetch()} />}
      <div className="pattern-groups">
        <Input
          allowClear
          className="pattern-search"
          aria-label="Find a pattern"
          placeholder="Find a pattern, such as chart, overdue, button"
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
        {groups.map(([group, list]) => (
          <section key={group}>
            <h3 className="pattern-group">{group}</h3>
            <ul className="patterns">
              {list.map((p) => (
                <PatternCard key={p.name} pattern={p} make={make} />
              ))}
            </ul>
          </section>
        ))}
        {patterns.data && groups.length === 0 && (
          <p className="muted" role="status">
            No pattern has these words. Say what you need in a sentence above, or{' '}
            <button type="button" className="plainbutton link" onClick={() => setWords('')}>
              look at all of them
            </button>
            .
          </p>
        )}
      </div>
    </section>
  );
}
