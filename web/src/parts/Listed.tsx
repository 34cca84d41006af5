import type { ReactNode } from 'react';
import { Trouble } from './Trouble';

interface Props {
  /** How the list is asked for. */
  of: { data?: unknown; error: Error | null; refetch: () => unknown };
  /** How many there are of it, as far as is known. */
  count: number;
  /** What is said where there is nothing, or nothing that fits. */
  children?: ReactNode;
}

/** How a list stands: still on its way, gone wrong, or with nothing in it. These are never taken for one another. */
export function Listed({ of, count, children }: Props) {
  if (of.error) return <Trouble error={of.error} again={() => void of.refetch()} />;
  if (of.data === undefined)
    return (
      <p className="muted looking" role="status">
        Looking…
      </p>
    );
  return count === 0 ? children : null;
}
