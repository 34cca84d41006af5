import { Button, Checkbox } from 'antd';
import { RemoveButton } from '../../parts/RemoveButton';
import { Most, Pick } from './Pick';
import { TellTo } from './TellTo';
import { overOf } from './reach';
import { SpanInput } from '../../parts/SpanInput';
import { emptyTest, groupOf, isFormula, type Tell } from './model';
import { groupsOf, type Name } from './names';
import { useFound, useSurroundings } from './surroundings';
import { TestEditor } from './TestEditor';

interface Props {
  tell: Tell;
  label: string;
  id: string;
  more: Name[] | undefined;
  set: (next: Partial<Tell>) => void;
}

/** The list that a tell goes through, "" where it makes one post. */
export const eachOf = (t: Tell) => (t.each ?? '').trim().replace(/^\$\{\s*|\s*\}$/g, '');

/** What is seldom said of a tell: copies, one post for each of a list, and what becomes of an empty address. */
export function TellMore({ tell, label, id, more, set }: Props) {
  const { readOnly, gathered, fields, keyField } = useSurroundings();
  const by = fields.find((f) => f.name === 'room')?.name ?? keyField;
  const lists = [
    ...gathered.filter((g) => (g.many || g.open) && !g.table).map((g) => g.name),
    ...gathered.filter((g) => g.table).map((g) => `rows(${g.name}, record.${by})`),
    ...fields.filter((f) => f.type === 'list').map((f) => `record.${f.name}`),
  ];
  const groups = groupsOf(gathered);
  const over = overOf(tell.to);
  const each = eachOf(tell);
  return (
    <span className="tellmore">
      {(['cc', 'bcc'] as const).map((name) => {
        const words = name === 'cc' ? 'Copy' : 'Hidden copy';
        const value = tell[name];
        return value === undefined ? null : (
          <span key={name} className="tell">
            <span className="muted">{words.toLowerCase()} to</span>
            <TellTo
              to={value}
              id={`${id}-${name}`}
              label={`${words} of ${label}`}
              more={more}
              change={(to) => set({ [name]: to })}
            />
            {!readOnly && (
              <RemoveButton
                label={`No ${words.toLowerCase()} of ${label}`}
                remove={() => set({ [name]: undefined })}
              />
            )}
          </span>
        );
      })}
      {(each !== '' || lists.length > 0) && (
        <span className="tell">
          <span className="muted">a post</span>
          <Pick
            label={`How many posts ${label} gets`}
            value={each}
            options={[
              { value: '', label: 'once' },
              ...[...new Set([...lists, ...(groups.some((g) => g.value === each) ? [] : [each])])]
                .filter(Boolean)
                .map((l) => ({ value: l, label: `for each of ${l}` })),
              ...groups,
            ]}
            change={(l) => set({ each: l ? `\${${l}}` : undefined, most: undefined })}
          />
          {each !== '' && (
            <>
              <span className="muted">at most</span>
              <Most
                label={`At most so many posts to ${label}`}
                most={200}
                usual={50}
                value={tell.most}
                change={(most) => set({ most })}
              />
            </>
          )}
        </span>
      )}
      <Checkbox
        disabled={readOnly}
        checked={tell.if_empty === 'skip'}
        onChange={(e) => set({ if_empty: e.target.checked ? 'skip' : undefined })}
      >
        leave it out where the address is empty
      </Checkbox>
      <KeepUp tell={tell} label={label} id={id} set={set} />
      {!readOnly && over !== '' && (
        <span className="tell">
          {(['cc', 'bcc'] as const).map(
            (name) =>
              tell[name] === undefined && (
                <Button key={name} type="link" size="small" onClick={() => set({ [name]: over })}>
                  + {name === 'cc' ? 'copy' : 'hidden copy'}
                </Button>
              ),
          )}
        </span>
      )}
    </span>
  );
}

/** Whether a post follows its record, and until when. */
function KeepUp({ tell, label, id, set }: Pick<Props, 'tell' | 'label' | 'id' | 'set'>) {
  const { readOnly, fields } = useSurroundings();
  const { seen } = useFound();
  const keep = tell.keep_up;
  const until = keep?.until;
  const simple = until && !groupOf(until) && !isFormula(until);
  const status = fields.find((f) => f.name === 'status') ?? fields[0];
  if (!keep && (readOnly || !status || tell.each)) return null;
  return (
    <span className="tell keepup">
      <Checkbox
        disabled={readOnly}
        checked={keep !== undefined}
        aria-label={`The post to ${label} follows its record`}
        onChange={(e) =>
          set({ keep_up: e.target.checked ? { until: emptyTest(status?.name ?? 'id') } : undefined })
        }
      >
        the post follows its record{keep ? ', until' : ''}
      </Checkbox>
      {keep && simple && (
        <TestEditor
          cond={until}
          path={`${id}.keep_up.until`}
          change={(next) => set({ keep_up: { ...keep, until: next } })}
          seen={seen[String(until.field)]}
        />
      )}
      {keep && !simple && (
        <span className="muted">a condition holds that is written in the sheet's text</span>
      )}
      {keep && (
        <>
          <span className="muted">for at most</span>
          <SpanInput
            label={`How long the post to ${label} follows its record`}
            value={keep.for ?? '30d'}
            readOnly={readOnly}
            change={(span) => set({ keep_up: { ...keep, for: span } })}
          />
        </>
      )}
    </span>
  );
}
