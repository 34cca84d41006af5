import { useState } from 'react';

interface Props {
  label: string;
  value: string | undefined;
  set: (value: string | undefined) => void;
}

/** A moment to narrow by, in the browser's own time. It holds once it is whole. */
export function TimeFilter({ label, value, set }: Props) {
  const [text, setText] = useState(() => localOf(value));
  return (
    <label className="timefilter">
      {label}{' '}
      <input
        type="datetime-local"
        className="nativetime"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          const at = new Date(e.target.value);
          if (!e.target.value) set(undefined);
          else if (!Number.isNaN(at.getTime())) set(at.toISOString());
        }}
      />
    </label>
  );
}

function localOf(value: string | undefined): string {
  if (!value) return '';
  const at = new Date(value);
  if (Number.isNaN(at.getTime())) return '';
  return new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}
