import type { ReactNode } from 'react';

interface Props {
  /** What failed, as a sentence. */
  what: string;
  /** Why, and what to do now. */
  children: ReactNode;
  /** The buttons, each with what it does. */
  ways: readonly (readonly [words: string, act: () => void])[];
}

/** Says what went wrong where the library of parts may not have come yet, or may be what is broken. */
export function PlainTrouble({ what, children, ways }: Props) {
  return (
    <div className="trouble" role="alert">
      <strong>{what}</strong> {children}{' '}
      {ways.map(([words, act]) => (
        <button key={words} type="button" className="plain-button" onClick={act}>
          {words}
        </button>
      ))}
    </div>
  );
}
