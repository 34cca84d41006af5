import { Select } from 'antd';
import type { ProofLines } from '../../api/client';
import { BandLine } from '../../parts/Band';
import { RemoveButton } from '../../parts/RemoveButton';
import { SpanInput } from '../../parts/SpanInput';
import { Condition } from './Condition';
import { emptyTest, type Cond, type FollowStep, type Unless } from './model';
import { placeWords } from './placeWords';
import { ProblemsAt } from './ProblemsAt';
import { useSurroundings } from './surroundings';
import { Whom } from './Whom';
import { Tells } from './Tells';

interface Props {
  s: FollowStep;
  path: string;
  proof: NonNullable<ProofLines['follow']>[number] | undefined;
  change: (next: FollowStep) => void;
  remove: () => void;
}

/** What an alert is taken care of by, as far as it can be chosen in one press. */
const ways = {
  claimed: { label: 'somebody takes it', cond: () => ({ claimed: true }) },
  answered: { label: 'somebody answers in its thread', cond: () => ({ answered: true }) },
  either: {
    label: 'somebody takes it or answers',
    cond: () => ({ any: [{ claimed: true }, { answered: true }] as unknown as Cond[] }),
  },
  record: { label: 'the record is as said below', cond: (field: string) => emptyTest(field) },
  several: {
    label: 'somebody takes it, or the record is as said',
    cond: (field: string) => ({ any: [{ claimed: true } as unknown as Cond, emptyTest(field)] }),
  },
};
type Way = keyof typeof ways;

const wayOf = (u: Unless): Way => {
  if (u.claimed === true) return 'claimed';
  if (u.answered === true) return 'answered';
  const any = (u.any ?? []) as Unless[];
  if (any.length === 2 && any[0]!.claimed && any[1]!.answered) return 'either';
  return u.any || u.all || u.none ? 'several' : 'record';
};

/** A step that tells others where an alert is not taken care of in time. */
export function EscalateStep({ s, path, proof, change, remove }: Props) {
  const { readOnly, fields } = useSurroundings();
  const { within, ...cond } = (s.unless ?? { within: '' }) as Unless;
  const way = wayOf(cond as Unless);
  const put = (next: Cond | undefined, span = within) =>
    change({ ...s, unless: { ...(next ?? { claimed: true }), within: span } });
  const shown = way === 'record' || way === 'several';
  return (
    <>
      <BandLine
        className="followline"
        ask={
          <>
            <div className="inline">
              <span>unless</span>
              <Select
                aria-label={`What ends ${placeWords(path)}`}
                disabled={readOnly}
                popupMatchSelectWidth={false}
                value={way}
                options={Object.entries(ways)
                  .filter(([k]) => fields.length > 0 || (k !== 'record' && k !== 'several'))
                  .map(([value, w]) => ({ value, label: w.label }))}
                onChange={(k: Way) => put(ways[k].cond(fields[0]?.name ?? 'id'))}
              />
              <span>within</span>
              <SpanInput
                label={`How long ${placeWords(path)} waits`}
                value={within}
                readOnly={readOnly}
                change={(span) => put(cond, span)}
              />
              {!readOnly && <RemoveButton label={`Remove ${placeWords(path)}`} remove={remove} />}
            </div>
            <Tells tell={s.tell} path={path} where={placeWords(path)} />
            <ProblemsAt path={path} />
          </>
        }
        proof={
          proof && (
            <span className="seen">
              <b className={proof.taken ? 'good' : 'muted'}>
                {proof.taken ? `◔ waits ${proof.within}` : '– does not wait'}
              </b>
              <Whom of={proof.of} lead="then " />
            </span>
          )
        }
      />
      {shown && (
        <Condition
          cond={cond}
          path={`${path}.unless`}
          line={proof?.line ?? undefined}
          change={(next) => put(next)}
          lead="unless"
          depth={1}
        />
      )}
    </>
  );
}
