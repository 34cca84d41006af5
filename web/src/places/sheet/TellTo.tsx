import { useRef } from 'react';
import { useLatest } from '../../parts/useLatest';
import { ChipInput } from './compose/ChipInput';
import type { ChipHandle } from './compose/Handle';
import { FieldPicker } from './FieldPicker';
import type { Name } from './names';
import { PlaceSelect } from './PlaceSelect';
import { isWritten, overOf, useReach } from './reach';
import { useSurroundings } from './surroundings';

interface Props {
  to: string;
  label: string;
  id: string;
  /** What can be called here alone: the fields of an element of a list. */
  more?: Name[];
  change: (to: string) => void;
}

/** Where a tell goes: chosen from lists, or an address that is written or that the record gives. */
export function TellTo({ to, label, id, more, change }: Props) {
  const { readOnly } = useSurroundings();
  const groups = useReach();
  const written = isWritten(to, groups);
  const over = overOf(to);
  const chip = useRef<ChipHandle>(null);
  const setPlace = useLatest((place: string) => change(over + place));
  return (
    <span className="tellto">
      <PlaceSelect
        className="channel-select"
        label={label}
        disabled={readOnly}
        groups={groups}
        to={to}
        change={change}
      />
      {written && (
        <>
          <ChipInput
            key={over}
            id={id}
            label={`${label}: the address`}
            value={to.slice(over.length)}
            readOnly={readOnly}
            change={setPlace}
            handle={chip}
          />
          {!readOnly && (
            <FieldPicker
              aria={`Insert a field into the address of ${label}`}
              label="+"
              more={more}
              insert={(f) => chip.current?.insert(f)}
            />
          )}
        </>
      )}
    </span>
  );
}
