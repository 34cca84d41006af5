import type { Schemas } from '../../api/client';

/** What looking into the route table found: the sum of it, and each finding with its example. */
export function TableCheck({ table, rows }: { table: Schemas['Analysis']; rows: number }) {
  const findings = table.findings ?? [];
  const of = (kind: string) => findings.filter((f) => f.kind === kind);
  const nothing = of('never').some((f) => /^(watch|keep)/.test(f.path ?? ''));
  if (nothing) return <span className="brass tablecheck">△ Nothing can come as far as the rows.</span>;
  const never = of('unreachable').length;
  const overlaps = of('overlap');
  const opaque = table.opaque ?? [];
  const said = [
    never === 0
      ? rows === 1
        ? 'The row can be reached'
        : 'Every row can be reached'
      : `${never} never taken`,
    of('gap').length ? 'something falls through' : 'nothing falls through',
    overlaps.length + table.more === 1 ? '1 overlap' : `${overlaps.length + table.more || 'no'} overlaps`,
  ];
  return (
    <div className="tablecheck" data-testid="table-check">
      <span className={never || of('gap').length ? 'brass' : 'good'}>
        {never || of('gap').length ? '△' : '✓'} {said.join(', ')}
        {!table.whole && ', as far as it could be looked into'}.
      </span>
      {(overlaps.length > 0 || opaque.length > 0) && (
        <details>
          <summary>More</summary>
          <ul>
            {overlaps.slice(0, 20).map((f, i) => (
              <li key={i}>{f.words}</li>
            ))}
            {overlaps.length + table.more > 20 && (
              <li>and {overlaps.length + table.more - 20} more overlaps</li>
            )}
            {opaque.length > 0 && (
              <li>
                Not looked into, so taken to hold or not:{' '}
                {opaque.map((o, i) => (
                  <code key={i}>{o} </code>
                ))}
              </li>
            )}
          </ul>
        </details>
      )}
    </div>
  );
}
