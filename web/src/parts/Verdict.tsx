const shapes: Record<string, string> = {
  told: '●',
  dropped: '–',
  unrouted: '○',
  repeated: '↺',
  held: '◔',
  released: '●',
  digest: '≡',
  expired: '–',
  asked: '?',
  followed: '↗',
  claimed: '✓',
  failed: '✕',
  ignored: '·',
  waiting: '◔',
  done: '●',
  skipped: '–',
  sent: '●',
  refused: '✕',
  'given up': '✕',
};

/** A verdict or state: its shape, its word, its ink. */
export function Verdict({ is, children }: { is: string; children?: React.ReactNode }) {
  return (
    <span className={`verdict verdict-${is.replace(' ', '-')}`}>
      <span aria-hidden="true" className="verdict-shape">
        {shapes[is] ?? '·'}
      </span>
      {is}
      {children}
    </span>
  );
}
