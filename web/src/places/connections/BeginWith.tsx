import { Radio, Select } from 'antd';
import type { Begin, Preview } from '../../api/client';

interface Props {
  preview: Preview;
  value: Begin;
  change: (b: Begin) => void;
}

/** Asks where to begin, and says what that would send at once. */
export function BeginWith({ preview, value, change }: Props) {
  const records = preview.records ?? [];
  const first = records[0];
  return (
    <fieldset className="beginwith">
      <legend>Where to begin</legend>
      <Radio.Group
        value={value.how}
        onChange={(e) => {
          const how = e.target.value as Begin['how'];
          change(how === 'from' && first ? { how, key: first.key, at: real(first.at) } : { how });
        }}
        options={[
          { value: 'now', label: 'From now on: what is there already is only remembered' },
          { value: 'from', label: 'From one record on', disabled: !first },
          { value: 'everything', label: 'Everything that is there' },
        ]}
      />
      {value.how === 'from' && (
        <Select
          aria-label="The record to begin with"
          className="wide-select"
          value={value.key}
          options={records.map((r) => ({ value: r.key, label: r.title ? `${r.key}, ${r.title}` : r.key }))}
          onChange={(key: string) => {
            const r = records.find((x) => x.key === key);
            change({ how: 'from', key, at: real(r?.at) });
          }}
        />
      )}
      <p className={preview.posts > 0 ? 'brass' : 'muted'} role="status">
        {preview.posts > 0 && '△ '}
        This makes {count(preview, 'arrivals')} at once
        {preview.arrivals > 0 && `, and ${count(preview, 'posts')}`}.
      </p>
    </fieldset>
  );
}

/** A moment that says something; the API writes the year 1 where a source gives none. */
const real = (at: string | undefined) => (at && !at.startsWith('0001') ? at : undefined);

const count = (p: Preview, what: 'arrivals' | 'posts') => {
  const n = p[what];
  const word = n === 1 ? what.slice(0, -1) : what;
  return `${p.more && n > 0 ? 'at least ' : ''}${n === 0 ? 'no' : n} ${word}`;
};
