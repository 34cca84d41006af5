import { AutoComplete, Button, Input, InputNumber, Select } from 'antd';
import { useMemo, useRef } from 'react';
import { useLatest } from '../../parts/useLatest';
import { ChipInput } from './compose/ChipInput';
import type { ChipHandle } from './compose/Handle';
import { Marks } from './compose/Marks';
import { FieldPicker } from './FieldPicker';
import type { MessageList } from './model';
import { itNames } from './names';
import { useSurroundings } from './surroundings';
import { RemoveButton } from '../../parts/RemoveButton';

interface Props {
  list: MessageList | undefined;
  /** Names of the lists that were gathered. */
  gathered: string[];
  change: (next: MessageList | undefined) => void;
}

/** The part of a message that says one line for each of many records. */
export function ListPart({ list, gathered, change }: Props) {
  const { readOnly, gathered: known, fields } = useSurroundings();
  const line = useRef<ChipHandle>(null);
  const setEach = useLatest((each: string) => change({ ...list!, each }));
  const of = known.find((g) => g.name === list?.of);
  const own = fields.find((f) => `record.${f.name}` === list?.of);
  const each = useMemo(() => itNames(of?.fields ?? own?.fields ?? [], 'Each of them'), [of, own]);
  if (!list) {
    if (readOnly || gathered.length === 0) return null;
    return (
      <>
        <span>List</span>
        <div>
          <Button type="link" size="small" onClick={() => change({ of: gathered.at(-1)!, each: '${it.id}' })}>
            + a line for each of {gathered.at(-1)}
          </Button>
        </div>
      </>
    );
  }
  const put = (next: Partial<MessageList>) => change({ ...list, ...next });
  const says = list.when_empty === 'say';
  return (
    <>
      <span>List</span>
      <div className="listpart">
        <div className="inline">
          <span>for each of</span>
          <AutoComplete
            className="side-select"
            aria-label="List of the message"
            value={list.of}
            disabled={readOnly}
            options={gathered.map((value) => ({ value }))}
            onChange={(of: string) => put({ of })}
          />
          <span>at most</span>
          <InputNumber
            className="every-value"
            aria-label="At most so many lines"
            min={1}
            placeholder="all"
            value={list.most}
            disabled={readOnly}
            onChange={(most) => put({ most: most ?? undefined })}
          />
          {!readOnly && <RemoveButton label="Remove the list" remove={() => change(undefined)} />}
        </div>
        <div className="with-picker">
          <ChipInput
            id="msg-each"
            label="Line for each"
            value={list.each}
            readOnly={readOnly}
            marks
            words
            change={setEach}
            handle={line}
          />
          {!readOnly && (
            <span className="body-tools">
              <FieldPicker
                aria="Insert a field into the line"
                more={each}
                insert={(f) => line.current?.insert(f)}
              />
              <Marks set={(m) => line.current?.mark(m)} only={['bold', 'italic', 'link']} />
            </span>
          )}
        </div>
        <div className="inline">
          <span>when there is none</span>
          <Select
            aria-label="When the list is empty"
            popupMatchSelectWidth={false}
            disabled={readOnly}
            value={says ? 'say' : 'skip'}
            options={[
              { value: 'skip', label: 'send nothing' },
              { value: 'say', label: 'say' },
            ]}
            onChange={(v) =>
              put(v === 'say' ? { when_empty: 'say' } : { when_empty: undefined, empty: undefined })
            }
          />
          {says && (
            <Input
              className="emptytext"
              aria-label="Text when the list is empty"
              placeholder="Nothing, such as: All is done."
              value={list.empty ?? ''}
              readOnly={readOnly}
              onChange={(e) => put({ empty: e.target.value || undefined })}
            />
          )}
        </div>
      </div>
    </>
  );
}
