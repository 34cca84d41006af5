import type { Schemas } from '../../api/client';

/** Whom something reaches of the chosen arrival, each with what hinders it. */
export function Whom({ of, lead = '' }: { of: Schemas['TellProof'][] | null | undefined; lead?: string }) {
  return (of ?? []).map((o) => (
    <span key={o.path} className={o.error ? 'bad' : undefined}>
      {o.error ? `✕ ${o.error}` : `${lead}${o.to ?? ''}`}
      {o.who && <span className="muted"> {o.who}</span>}
    </span>
  ));
}
