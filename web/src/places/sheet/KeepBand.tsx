import './sheet.css';
import { memo } from 'react';
import type { ProofLines } from '../../api/client';
import { Band, BandLine } from '../../parts/Band';
import { AddCondition, Condition } from './Condition';
import { withTest, type Sheet } from './model';
import { useSurroundings } from './surroundings';

interface Props {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
  proof: ProofLines | undefined;
}

export const KeepBand = memo(function KeepBand({ sheet, change, proof }: Props) {
  const { readOnly } = useSurroundings();
  const set = (keep: Sheet['keep']) => {
    if (keep) {
      change({ keep });
      return;
    }
    change({ keep: undefined });
  };
  return (
    <Band label="Keep" hint="what matters">
      {sheet.keep ? (
        <Condition cond={sheet.keep} path="keep" line={proof?.keep ?? undefined} change={set} />
      ) : (
        <BandLine
          ask={
            <div className="inline">
              <span className="muted">Everything that starts it is kept.</span>
              {!readOnly && <AddCondition add={(test) => set(withTest(undefined, test))} />}
            </div>
          }
        />
      )}
    </Band>
  );
});
