const known = ['green', 'brass', 'red', 'blue'];

/** A workflow's stamp: its initials in its colour. */
export function Stamp({ name, colour }: { name: string; colour?: string }) {
  const initials = name
    .split(/\s+/)
    .slice(0, 2)
    .map((w) => w.charAt(0).toUpperCase())
    .join('');
  return (
    <span aria-hidden="true" className={`stamp stamp-${known.includes(colour ?? '') ? colour : 'green'}`}>
      {initials}
    </span>
  );
}
