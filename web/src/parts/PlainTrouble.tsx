import type { ReactNode } from 'react';

interface Props {
  /** What failed, as a sentence, unless a heading says so. */
  what?: string;
  /** Why, and what to do now. */
  children: ReactNode;
  /** The buttons, each with what it does. */
  ways: readonly (readonly [words: string, act: () => void])[];
}

/** Says what went wrong where the library of parts may not have come yet, or may be what is broken. */
export function PlainTrouble({ what, children, ways }: Props) {
  return (
    <div className="trouble" role="alert">
      {what && <strong>{what} </strong>}
      {children}
      <div className="trouble-ways">
        {ways.map(([words, act]) => (
          <button key={words} type="button" className="plain-button" onClick={act}>
            {words}
          </button>
        ))}
      </div>
    </div>
  );
}
