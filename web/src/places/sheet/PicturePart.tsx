import { Checkbox } from 'antd';
import { RemoveButton } from '../../parts/RemoveButton';
import { filled, type Message } from './model';
import type { GatheredName } from './names';
import { Most, Pick } from './Pick';
import { useSurroundings } from './surroundings';
import { ChipLine } from './Values';
import { Several } from '../../parts/Several';

type Picture = NonNullable<Message['picture']>;
type Chart = NonNullable<Picture['chart']>;
type Table = NonNullable<Picture['table']>;

interface Props {
  message: string;
  picture: Picture;
  lists: string[];
  change: (next: Picture | undefined) => void;
}

const kinds = { columns: 'columns', bars: 'lying bars', line: 'a line', share: 'shares' };
const folds = { count: 'how many', sum: 'the sum of', avg: 'the mean of', min: 'the least', max: 'the most' };
type Fold = keyof typeof folds;

const numbers = ['number', 'money', ''];
const times = ['date', 'moment'];

/** What a fresh chart of a list shows: how many there are by week or, where nothing has a time, by its first choice. */
export function freshChart(list: GatheredName): Picture {
  const time = list.fields.find((f) => times.includes(f.type));
  const by = list.fields.find((f) => f.type === 'choice') ?? list.fields[0];
  const base = { of: list.name, kind: 'columns' as const, value: 'count()' };
  return {
    chart: time ? { ...base, at: time.name, by: 'week' } : { ...base, kind: 'bars', by: by?.name ?? 'id' },
  };
}

export const freshTable = (list: GatheredName): Picture => ({
  table: { of: list.name, columns: list.fields.slice(0, 4).map((f) => f.name) },
});

/** A picture that is drawn of a list: a chart, or a table. */
export function PicturePart({ message, picture, lists, change }: Props) {
  const { readOnly } = useSurroundings();
  const { chart, table } = picture;
  const put = (next: Partial<Picture>) => change(filled(picture, next));
  return (
    <>
      <span>{chart ? 'Chart' : 'Table'}</span>
      <div>
        {chart && (
          <ChartPart chart={chart} message={message} lists={lists} change={(c) => put({ chart: c })} />
        )}
        {table && (
          <TablePart table={table} message={message} lists={lists} change={(t) => put({ table: t })} />
        )}
        <div className="inline">
          <span className="muted">in words</span>
          <ChipLine
            id={`picture-words-${message}`}
            label={`What the picture of ${message} shows`}
            value={picture.text ?? ''}
            change={(text) => put({ text })}
          />
          <span className="muted small">left empty, the figures are told</span>
          {!readOnly && <RemoveButton label="Remove the picture" remove={() => change(undefined)} />}
        </div>
      </div>
    </>
  );
}

const fieldsOf = (of: string, gathered: GatheredName[], types?: string[]) =>
  (gathered.find((g) => g.name === of)?.fields ?? [])
    .filter((f) => !types || types.includes(f.type))
    .map((f) => ({ value: f.name, label: f.label }));

function ChartPart({
  chart: c,
  message,
  lists,
  change,
}: {
  chart: Chart;
  message: string;
  lists: string[];
  change: (next: Chart) => void;
}) {
  const { gathered } = useSurroundings();
  const put = (next: Partial<Chart>) => change(filled(c, next));
  const [, fold = 'count', field = ''] = /^\s*(?:\$\{)?\s*(\w+)\((.*)\)\s*\}?\s*$/.exec(c.value) ?? [];
  const figure = (f: Fold, name: string) =>
    f === 'count' ? 'count()' : `${f}(${name || (fieldsOf(c.of, gathered, numbers)[0]?.value ?? '')})`;
  return (
    <>
      <div className="inline">
        <Pick
          label={`Kind of chart in ${message}`}
          value={c.kind}
          options={Object.entries(kinds).map(([value, label]) => ({ value: value as Chart['kind'], label }))}
          change={(kind) => put({ kind })}
        />
        <span className="muted">of</span>
        <Pick
          label={`Records of the chart in ${message}`}
          value={c.of}
          options={lists.map((value) => ({ value, label: value }))}
          change={(of) => put({ of })}
        />
        <span className="muted">showing</span>
        <Pick
          label={`Figure of the chart in ${message}`}
          value={fold as Fold}
          options={Object.entries(folds).map(([value, label]) => ({ value: value as Fold, label }))}
          change={(f) => put({ value: figure(f, field) })}
        />
        {fold !== 'count' && (
          <Pick
            label={`Field of the chart's figure in ${message}`}
            value={field}
            options={fieldsOf(c.of, gathered, numbers)}
            change={(name) => put({ value: figure(fold as Fold, name) })}
          />
        )}
      </div>
      <div className="inline">
        <span className="muted">by</span>
        <Pick
          label={`What the chart in ${message} goes by`}
          value={c.at !== undefined ? `time ${c.at}` : c.by}
          options={[
            ...fieldsOf(c.of, gathered, times).map((f) => ({
              value: `time ${f.value}`,
              label: `the time of ${f.label}`,
            })),
            ...fieldsOf(c.of, gathered).filter(
              (f) => !fieldsOf(c.of, gathered, times).some((t) => t.value === f.value),
            ),
          ]}
          change={(v) =>
            v.startsWith('time ')
              ? put({ at: v.slice(5), by: c.at !== undefined ? c.by : 'week' })
              : put({ at: undefined, by: v })
          }
        />
        {c.at !== undefined && (
          <Pick
            label={`Span of the chart in ${message}`}
            value={c.by}
            options={['day', 'week', 'month'].map((value) => ({ value, label: `each ${value}` }))}
            change={(by) => put({ by })}
          />
        )}
        <span className="muted">with a series for each</span>
        <Pick
          label={`Series of the chart in ${message}`}
          value={c.split ?? ''}
          options={[{ value: '', label: '(one series)' }, ...fieldsOf(c.of, gathered)]}
          change={(split) => put({ split: split || undefined })}
        />
      </div>
      <div className="inline">
        <span className="muted">headed</span>
        <ChipLine
          id={`chart-title-${message}`}
          label={`Heading of the chart in ${message}`}
          value={c.title ?? ''}
          change={(title) => put({ title })}
        />
      </div>
    </>
  );
}

const nameOf = (c: Table['columns'][number]) => (typeof c === 'string' ? c : c.field);

function TablePart({
  table: t,
  message,
  lists,
  change,
}: {
  table: Table;
  message: string;
  lists: string[];
  change: (next: Table) => void;
}) {
  const { readOnly, gathered } = useSurroundings();
  return (
    <div className="inline">
      <Pick
        label={`Records of the table in ${message}`}
        value={t.of}
        options={lists.map((value) => ({ value, label: value }))}
        change={(of) => change({ ...t, of })}
      />
      <span className="muted">with</span>
      <Several
        typed
        className="columns-select"
        aria-label={`Columns of the table in ${message}`}
        disabled={readOnly}
        popupMatchSelectWidth={false}
        value={t.columns.map(nameOf)}
        options={fieldsOf(t.of, gathered)}
        onChange={(next: string[]) =>
          change({
            ...t,
            columns: next.map((name) => t.columns.find((c) => nameOf(c) === name) ?? name),
          })
        }
      />
      <span className="muted">at most</span>
      <Most
        label={`At most so many rows in ${message}`}
        most={100}
        usual={30}
        value={t.most}
        change={(most) => change({ ...t, most })}
      />
      <Checkbox
        disabled={readOnly}
        checked={t.total === true}
        onChange={(e) => change({ ...t, total: e.target.checked || undefined })}
      >
        with a total
      </Checkbox>
    </div>
  );
}
