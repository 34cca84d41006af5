import type { ReactNode } from 'react';

/** A ruled section of the sheet: its label in the margin. */
export function Band({ label, hint, children }: { label: string; hint?: string; children: ReactNode }) {
  return (
    <section className="band sheetband" aria-label={label}>
      <h2 className="band-label">
        {label}
        {hint && <small>{hint}</small>}
      </h2>
      <div className="band-lines">{children}</div>
    </section>
  );
}

/** One line of a band: what is asked on the left, what proves it on the right. */
export function BandLine({
  ask,
  proof,
  className,
}: {
  ask: ReactNode;
  proof?: ReactNode;
  className?: string;
}) {
  return (
    <div className={`bandline ${className ?? ''}`}>
      <div className="ask">{ask}</div>
      <div className="proof">{proof}</div>
    </div>
  );
}
