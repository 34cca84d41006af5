import './practice.css';
import { Segmented } from 'antd';
import { useState } from 'react';
import { Trouble } from '../../parts/Trouble';
import { Records } from './Records';
import { Stands } from './Stands';
import { useKinds, usePracticeEvents } from './usePractice';

/** The practice apps beside the square: change a record, watch the alert arrive. */
export function Practice() {
  usePracticeEvents();
  const kinds = useKinds();
  const [chosen, setSource] = useState<string>();
  if (kinds.error) return <Trouble error={kinds.error} again={() => void kinds.refetch()} />;
  const first = kinds.data?.[0];
  const source = chosen ?? (first && `${first.app}/${first.kind}`);
  const kind = (kinds.data ?? []).find((k) => `${k.app}/${k.kind}` === source);
  return (
    <main className="place practice" id="place">
      <section aria-label="Practice apps">
        <div className="place-head">
          <h1>Practice apps</h1>
          <Segmented
            size="small"
            aria-label="App"
            value={source}
            onChange={setSource}
            options={(kinds.data ?? []).map((k) => ({ value: `${k.app}/${k.kind}`, label: k.title }))}
          />
        </div>
        {kind && <Records key={source} of={kind} />}
      </section>
      <Stands />
    </main>
  );
}
