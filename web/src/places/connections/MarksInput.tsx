import { useQuery } from '@tanstack/react-query';
import { Input, Select } from 'antd';
import { useState } from 'react';
import { api, answerOf } from '../../api/client';

interface Props {
  id: string;
  value: string;
  change: (marks: string) => void;
}

interface Table {
  bold: [string, string];
  italic: [string, string];
  code: [string, string];
  link: string;
  mention: string;
  list: string;
  quote: string;
  line: string;
  escape: 'backslash' | 'entities' | 'wide';
}

const empty: Table = {
  bold: ['', ''],
  italic: ['', ''],
  code: ['', ''],
  link: '',
  mention: '',
  list: '- ',
  quote: '',
  line: '',
  escape: 'wide',
};

const read = (text: string): Table => {
  try {
    return { ...empty, ...(JSON.parse(text) as Partial<Table>) };
  } catch {
    return empty;
  }
};

const sample =
  '**Late milk** from [Sonnleiten](https://tours.example/COL-1), *soon* *`x`*\n\n- 1240 litres\n- 2 * 3 < 7 & _more_';

const pairs = [
  ['bold', 'Bold'],
  ['italic', 'Italic'],
  ['code', 'Code'],
] as const;

const singles = [
  ['link', 'A link', '[{text}]({to})'],
  ['mention', 'A mention', '<@{to}>'],
  ['list', 'Before a line of a list', '- '],
  ['quote', 'Before a line of a quote', '> '],
  ['line', 'The end of a line', 'a line feed'],
] as const;

/** How another side writes bold, links and the like, with a try-out that is written by it at once. */
export function MarksInput({ id, value, change }: Props) {
  const marks = read(value);
  const [text, setText] = useState(sample);
  const put = (next: Partial<Table>) => change(JSON.stringify({ ...marks, ...next }));
  const tried = useQuery({
    queryKey: ['marks', value, text],
    queryFn: () => answerOf(api.POST('/api/marks/try', { body: { marks: JSON.stringify(marks), text } })),
    staleTime: Infinity,
  });
  const out = tried.data;
  const wrong = (name: string) => (out?.place === name ? 'error' : undefined);
  return (
    <div className="marksinput">
      <table className="ledger" aria-label="Its marks">
        <tbody>
          {pairs.map(([name, label], i) => (
            <tr key={name}>
              <td>{label}</td>
              <td>
                {[0, 1].map((side) => (
                  <Input
                    key={side}
                    id={i === 0 && side === 0 ? id : undefined}
                    className="mono mark"
                    status={wrong(name)}
                    aria-label={`${label}: ${side === 0 ? 'begins with' : 'ends with'}`}
                    placeholder={side === 0 ? 'begins with' : 'ends with'}
                    value={marks[name][side]}
                    onChange={(e) => {
                      const next: [string, string] = [...marks[name]];
                      next[side] = e.target.value;
                      if (side === 0 && (next[1] === '' || next[1] === marks[name][0]))
                        next[1] = e.target.value;
                      put({ [name]: next });
                    }}
                  />
                ))}
              </td>
            </tr>
          ))}
          {singles.map(([name, label, hint]) => (
            <tr key={name}>
              <td>{label}</td>
              <td>
                <Input
                  className="mono"
                  status={wrong(name)}
                  aria-label={label}
                  placeholder={hint}
                  value={marks[name]}
                  onChange={(e) => put({ [name]: e.target.value })}
                />
              </td>
            </tr>
          ))}
          <tr>
            <td>A sign that is only a sign</td>
            <td>
              <Select
                aria-label="How a sign stands for itself"
                value={marks.escape}
                options={[
                  { value: 'backslash', label: 'has \\ before it' },
                  { value: 'entities', label: 'is written as &#42;' },
                  { value: 'wide', label: 'there is no way: its wide form is written' },
                ]}
                onChange={(escape: Table['escape']) => put({ escape })}
              />
            </td>
          </tr>
        </tbody>
      </table>
      <div className="marks-try">
        <Input.TextArea
          aria-label="A text to try the marks on"
          rows={5}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <pre className="as-text" aria-label="As it is written" aria-live="polite">
          {out?.problem ? <span className="bad">✕ {out.problem}</span> : out?.written}
        </pre>
      </div>
    </div>
  );
}
