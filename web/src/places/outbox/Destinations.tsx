import { useAct } from '../../api/act';
import { Button, InputNumber } from 'antd';
import { useState } from 'react';
import { api, answerOf, type DestinationItem } from '../../api/client';
import { agoOf, clockOf } from '../../parts/times';
import { Resume } from './Resume';

interface Props {
  items: DestinationItem[];
  chosen: string | undefined;
  choose: (name: string | undefined) => void;
  editor: boolean;
}

/** Where posts go: what waits for each, how fast it is told, and whether it is paused. */
export function Destinations({ items, chosen, choose, editor }: Props) {
  const shown = chosen ? items.filter((d) => d.name === chosen) : items.filter(busy);
  const quiet = items.length - shown.length;
  const [all, setAll] = useState(false);
  const list = chosen || !all ? shown : items;
  return (
    <section aria-label="Destinations" className="destinations">
      {list.map((d) => (
        <Destination
          key={d.name}
          d={d}
          editor={editor}
          choose={() => choose(chosen ? undefined : d.name)}
          chosen={chosen === d.name}
        />
      ))}
      {!chosen && quiet > 0 && (
        <button type="button" className="plainbutton muted" aria-expanded={all} onClick={() => setAll(!all)}>
          {all
            ? 'Only where something waits'
            : `${quiet === items.length ? 'All' : 'The other'} ${quiet} destinations: nothing waits, none is paused`}
        </button>
      )}
    </section>
  );
}

const busy = (d: DestinationItem) => d.paused || d.waiting > 0 || d.refused > 0;

function useChange() {
  return useAct((call: () => Promise<unknown>) => call(), ['posts', 'destinations', 'today']);
}

function Destination({
  d,
  editor,
  choose,
  chosen,
}: {
  d: DestinationItem;
  editor: boolean;
  choose: () => void;
  chosen: boolean;
}) {
  const change = useChange();
  const [resuming, setResuming] = useState(false);
  const body = { name: d.name };
  return (
    <div className={`destination ${d.paused ? 'paused' : ''}`} data-destination={d.name}>
      <div className="destination-line">
        <button type="button" className="rowbutton" aria-pressed={chosen} onClick={choose}>
          {d.name}
        </button>
        <span>
          {d.paused ? (
            <b className="bad">✕ paused</b>
          ) : d.failures > 2 ? (
            <b className="brass">△ does not answer</b>
          ) : d.shut ? (
            <b className="brass" title={d.shut}>
              △ would refuse
            </b>
          ) : (
            <span className="good">● open</span>
          )}
        </span>
        <span className={d.waiting > 0 ? 'brass' : 'muted'}>
          {d.waiting === 0 ? 'nothing waits' : d.waiting === 1 ? '1 waits' : `${d.waiting} wait`}
          {d.waiting > 0 && d.oldest && `, the oldest since ${agoOf(d.oldest)}`}
        </span>
        {d.refused > 0 && <span className="bad">{d.refused} refused</span>}
        <span className="muted">{d.sent} sent in a day</span>
        <Rate d={d} editor={editor} change={change} />
        {editor &&
          (d.paused ? (
            <span className="inline">
              <Button size="small" aria-expanded={resuming} onClick={() => setResuming(!resuming)}>
                Choose which …
              </Button>
              <Button
                type="primary"
                size="small"
                loading={change.isPending}
                title="Everything, in its order"
                onClick={() => change.mutate(() => answerOf(api.POST('/api/destinations/resume', { body })))}
              >
                Send what waited
              </Button>
            </span>
          ) : (
            <Button
              size="small"
              loading={change.isPending}
              onClick={() => change.mutate(() => answerOf(api.POST('/api/destinations/pause', { body })))}
            >
              Pause
            </Button>
          ))}
      </div>
      {d.paused && (
        <p className="destination-why">
          {d.held_by ? `Held by ${d.held_by}: ${d.reason}.` : `It answered: ${d.reason}`}
          {!d.held_by && (
            <span className="muted">
              {' '}
              Nothing more is sent until it is mended; what waits keeps its order.
            </span>
          )}
        </p>
      )}
      {!d.paused && d.not_before && new Date(d.not_before) > new Date() && (
        <p className="destination-why muted">The next post goes at {clockOf(d.not_before)}.</p>
      )}
      {resuming && d.paused && <Resume d={d} close={() => setResuming(false)} />}
    </div>
  );
}

function Rate({
  d,
  editor,
  change,
}: {
  d: DestinationItem;
  editor: boolean;
  change: ReturnType<typeof useChange>;
}) {
  const set = (per_minute: number, forget = false) =>
    change.mutate(() =>
      answerOf(api.POST('/api/destinations/rate', { body: { name: d.name, per_minute, forget } })),
    );
  return (
    <span className="rate">
      {editor ? (
        <>
          at most{' '}
          <InputNumber
            size="small"
            className="rate-value"
            aria-label={`Posts a minute for ${d.name}`}
            min={1}
            max={60000}
            placeholder="any"
            value={d.per_minute || undefined}
            onChange={(v) => v == null && set(0)}
            onBlur={(e) => {
              const v = Number(e.target.value);
              if (v !== d.per_minute && v >= 0) set(v);
            }}
            onPressEnter={(e) => e.currentTarget.blur()}
          />{' '}
          a minute
        </>
      ) : (
        d.per_minute > 0 && `at most ${d.per_minute} a minute`
      )}
      {d.bears > 0 && (
        <span className="brass">
          {' '}
          it bears {d.bears < 10 ? d.bears.toFixed(1) : Math.round(d.bears)}
          {editor && (
            <button type="button" className="plainbutton" onClick={() => set(d.per_minute, true)}>
              forget
            </button>
          )}
        </span>
      )}
    </span>
  );
}
