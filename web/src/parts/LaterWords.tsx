import { clockOf, dayOf, fullOf } from './times';

/** What became of an arrival that was held: told later by itself, or in a digest. */
export function LaterWords({ later, at }: { later: string; at: string | null }) {
  if (!later || !at) return null;
  return (
    <span title={fullOf(at)}>
      ; {later === 'digest' ? 'told in a digest' : 'told'} {dayOf(at)} {clockOf(at)}
    </span>
  );
}
