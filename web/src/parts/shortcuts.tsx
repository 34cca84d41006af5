import { Modal } from 'antd';
import { useEffect, useRef, useState } from 'react';

type Place = readonly [to: string, label: string, key: string];

const typing = (t: EventTarget | null) =>
  t instanceof HTMLElement && (t.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(t.tagName));

/** Keys for the whole application: g and a letter goes to a place, ? shows them all. */
export function useShortcuts(places: readonly Place[], go: (to: string) => void) {
  const [shown, setShown] = useState(false);
  const going = useRef(0);
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (typing(e.target) || e.ctrlKey || e.metaKey || e.altKey) return;
      if (e.key === '?') {
        setShown(true);
      } else if (Date.now() - going.current < 1500) {
        going.current = 0;
        const place = places.find(([, , key]) => key === e.key);
        if (place) go(place[0]);
      } else if (e.key === 'g') {
        going.current = Date.now();
      }
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, [places, go]);

  const help = (
    <Modal title="Keys" open={shown} onCancel={() => setShown(false)} footer={null} width={420}>
      <dl className="keys">
        {places.map(([to, label, key]) => (
          <div key={to}>
            <dt>
              <kbd>g</kbd> <kbd>{key}</kbd>
            </dt>
            <dd>{label}</dd>
          </div>
        ))}
        <div>
          <dt>
            <kbd>[</kbd> <kbd>]</kbd>
          </dt>
          <dd>
            On a sheet: the arrival before, the next one; {'{'} and {'}'} those that are told
          </dd>
        </div>
        <div>
          <dt>
            <kbd>Ctrl</kbd> <kbd>z</kbd>
          </dt>
          <dd>On a sheet: undo the last edit</dd>
        </div>
        <div>
          <dt>
            <kbd>Alt</kbd> <kbd>↑</kbd> <kbd>↓</kbd>
          </dt>
          <dd>In a row of the route table: move it</dd>
        </div>
        <div>
          <dt>
            <kbd>←</kbd> <kbd>→</kbd>
          </dt>
          <dd>In the trail: step; Home and End go to its ends</dd>
        </div>
        <div>
          <dt>
            <kbd>?</kbd>
          </dt>
          <dd>These keys</dd>
        </div>
      </dl>
    </Modal>
  );
  return { help, open: () => setShown(true) };
}
