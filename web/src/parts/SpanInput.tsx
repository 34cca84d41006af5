import { Input } from 'antd';

interface Props {
  label: string;
  value: string;
  change: (v: string) => void;
  readOnly?: boolean;
  /** What it is where nothing is said. */
  usual?: string;
}

const units: Record<string, string> = { w: 'weeks', d: 'days', h: 'hours', m: 'minutes', s: 'seconds' };

/** Says a span in words: "1h30m" is "1 hours 30 minutes". */
const inWords = (v: string) => {
  const parts = [...v.matchAll(/(\d+(?:\.\d+)?)([wdhms])/g)];
  if (parts.length === 0 || parts.map((p) => p[0]).join('') !== v) return '';
  return parts.map((p) => `${p[1]} ${units[p[2]!]!.slice(0, p[1] === '1' ? -1 : undefined)}`).join(' ');
};

/** A span of time, such as 45m or 1h30m, read back in words. */
export function SpanInput({ label, value, change, readOnly, usual }: Props) {
  const words = inWords(value);
  return (
    <span className="spaninput">
      <Input
        className="span-value"
        aria-label={label}
        value={value}
        readOnly={readOnly}
        placeholder={usual ?? '45m'}
        onChange={(e) => change(e.target.value.replace(/\s+/g, ''))}
      />
      <span className="muted small">{words || (usual ? inWords(usual) : 'such as 45m, 2h, 3d')}</span>
    </span>
  );
}
