import { Button, Checkbox, Input, Select } from 'antd';
import { useRef } from 'react';
import { RemoveButton } from '../../parts/RemoveButton';
import { useLatest } from '../../parts/useLatest';
import { ChipInput } from './compose/ChipInput';
import type { ChipHandle } from './compose/Handle';
import { FieldPicker } from './FieldPicker';
import { MessageButtons } from './MessageButtons';
import { exchanged, dropped, filled, type Message } from './model';
import { freshChart, freshTable, PicturePart } from './PicturePart';
import { useSurroundings } from './surroundings';
import { Several } from '../../parts/Several';

interface Props {
  name: string;
  message: Message;
  /** Names of the lists that were gathered. */
  gathered: string[];
  set: (next: Partial<Message>) => void;
}

type File = NonNullable<Message['attach']>[number];
type TableFile = File & { table: NonNullable<File['table']> };
type Column = TableFile['table']['columns'][number];

/** What apps call the address of a file. */
const ADDRESSES = new Set(['address', 'url', 'href', 'src']);

/** The parts of a message that not every one has: another sender, more links, a picture, persons it speaks to, files. */
export function MessageMore({ name, message, gathered, set }: Props) {
  const { readOnly, gathered: lists, fields } = useSurroundings();
  const { sender, picture } = message;
  const like = typeof message.like === 'string' ? { of: message.like } : message.like;
  const links = message.links ?? [];
  const mention = message.mention ?? [];
  const attach = message.attach ?? [];
  const listed = lists.find((g) => g.name === gathered.at(-1));
  // What came with the record, such as with a mail: a list of files, each with its address.
  const came = fields.find((f) => f.type === 'list' && f.fields?.some((of) => ADDRESSES.has(of.name)));
  const theirs = came && `\${record.${came.name}}`;
  const without = <T,>(list: T[], i: number) => {
    const rest = dropped(list, i);
    return rest.length ? rest : undefined;
  };
  const add = (label: string, next: Partial<Message>) => (
    <Button type="link" size="small" onClick={() => set(next)}>
      + {label}
    </Button>
  );
  return (
    <>
      {like && <LikePart like={like} change={(next) => set({ like: next })} />}
      {sender && (
        <>
          <span>Sender</span>
          <div className="morepart">
            <Text
              label="Sender's name"
              value={sender.name ?? ''}
              change={(name) => set({ sender: { ...sender, name } })}
            />
            <Text
              label="Address of the sender's picture"
              hint="picture, by its address"
              value={sender.picture ?? ''}
              change={(p) => set({ sender: { name: sender.name, ...(p && { picture: p }) } })}
            />
            {!readOnly && (
              <RemoveButton label="No sender of its own" remove={() => set({ sender: undefined })} />
            )}
          </div>
        </>
      )}
      {links.length > 0 && (
        <>
          <span>More links</span>
          <div>
            {links.map((l, i) => (
              <div key={i} className="morepart">
                <Text
                  label={`Text of link ${i + 2}`}
                  hint="text"
                  value={l.text ?? ''}
                  change={(text) => set({ links: links.map((o, j) => (j === i ? { ...o, text } : o)) })}
                />
                {l.share !== undefined ? (
                  <ShareFields
                    label={`Fields that link ${i + 2} shares`}
                    share={l.share}
                    change={(share) => set({ links: links.map((o, j) => (j === i ? { ...o, share } : o)) })}
                  />
                ) : (
                  <Text
                    label={`Address of link ${i + 2}`}
                    hint="https://…"
                    value={l.to ?? ''}
                    change={(to) => set({ links: links.map((o, j) => (j === i ? { ...o, to } : o)) })}
                  />
                )}
                {!readOnly && (
                  <RemoveButton
                    label={`Remove link ${i + 2}`}
                    remove={() => set({ links: without(links, i) })}
                  />
                )}
              </div>
            ))}
          </div>
        </>
      )}
      {picture && (picture.chart ?? picture.table) && (
        <PicturePart
          message={name}
          picture={picture}
          lists={gathered}
          change={(next) => set({ picture: next })}
        />
      )}
      {picture && !picture.chart && !picture.table && (
        <>
          <span>Picture</span>
          <div className="morepart">
            <Text
              label="Address of the picture"
              hint="its address"
              value={picture.from ?? ''}
              change={(from) => set({ picture: { ...picture, from } })}
            />
            <Text
              label="What the picture shows"
              hint="what it shows, in words"
              value={picture.text ?? ''}
              change={(text) => set({ picture: { from: picture.from ?? '', ...(text && { text }) } })}
            />
            {!readOnly && (
              <RemoveButton label="Remove the picture" remove={() => set({ picture: undefined })} />
            )}
          </div>
        </>
      )}
      {mention.length > 0 && (
        <>
          <span>Speaks to</span>
          <div>
            {mention.map((m, i) => (
              <div key={i} className="morepart">
                <Text
                  label={`Person ${i + 1} whom it speaks to`}
                  hint="a name, or a field"
                  value={m}
                  change={(who) => set({ mention: mention.map((o, j) => (j === i ? who : o)) })}
                />
                {!readOnly && (
                  <RemoveButton
                    label={`Do not speak to person ${i + 1}`}
                    remove={() => set({ mention: without(mention, i) })}
                  />
                )}
              </div>
            ))}
          </div>
        </>
      )}
      {attach.map((f, i) => {
        const change = (next: File | undefined) =>
          set({ attach: next ? exchanged(attach, i, next) : without(attach, i) });
        return f.table ? (
          <FilePart key={i} n={i + 1} file={{ ...f, table: f.table }} gathered={gathered} change={change} />
        ) : (
          <FetchedPart key={i} n={i + 1} file={f} change={change} />
        );
      })}
      {(message.buttons ?? []).length > 0 && (
        <MessageButtons
          buttons={message.buttons!}
          message={name}
          change={(next) => set({ buttons: next.length ? next : undefined })}
        />
      )}
      {!readOnly && (
        <>
          <span />
          <div className="inline">
            {!like &&
              !message.list &&
              fields.some((f) => f.name === 'text') &&
              add('copy of a chat message', {
                like: { of: '${record}', author: true },
                body: undefined,
                facts: undefined,
              })}
            {!sender && add('sender', { sender: { name: '' } })}
            {add('link', { links: [...links, { text: '', to: '' }] })}
            {fields.length > 0 &&
              add('shared page', { links: [...links, { text: 'See more', share: [fields[0]!.name] }] })}
            {!picture && add('picture', { picture: { from: theirs ?? '' } })}
            {!picture && listed && add('chart', { picture: freshChart(listed) })}
            {!picture && listed && add('table as a picture', { picture: freshTable(listed) })}
            {!message.buttons && add('button', { buttons: [{ text: 'I take it', claim: true }] })}
            {add('person', { mention: [...mention, ''] })}
            {theirs &&
              !attach.some((f) => f.from === theirs) &&
              add("the record's files", { attach: [...attach, { from: theirs }] })}
            {add('file from an address', { attach: [...attach, { from: '' }] })}
            {gathered.length > 0 &&
              add('file', {
                attach: [
                  ...attach,
                  { name: `${gathered.at(-1)}.csv`, table: { of: gathered.at(-1)!, columns: ['id'] } },
                ],
              })}
          </div>
        </>
      )}
    </>
  );
}

type Like = Exclude<NonNullable<Message['like']>, string>;

/** A copy of a chat message: its text with its marks and its pictures, with what stands around it. */
function LikePart({ like, change }: { like: Like; change: (next: Like | undefined) => void }) {
  const { readOnly } = useSurroundings();
  const put = (next: Partial<Like>) => change(filled<Like>(like, next));
  return (
    <>
      <span>Copy of</span>
      <div className="morepart">
        <Text label="The message that is copied" value={like.of} change={(of) => put({ of })} />
        <Checkbox
          disabled={readOnly}
          checked={like.author === true}
          onChange={(e) => put({ author: e.target.checked || undefined })}
        >
          with who said it
        </Checkbox>
        <Text
          label="Line above the copy"
          hint="a line above"
          value={like.header ?? ''}
          change={(header) => put({ header })}
        />
        <Text
          label="Line below the copy"
          hint="a line below"
          value={like.footer ?? ''}
          change={(footer) => put({ footer })}
        />
        {!readOnly && <RemoveButton label="No copy of a message" remove={() => change(undefined)} />}
      </div>
    </>
  );
}

/** Which fields a page shows to people without an account. */
function ShareFields({
  label,
  share,
  change,
}: {
  label: string;
  share: string | string[];
  change: (next: string[]) => void;
}) {
  const { readOnly, fields } = useSurroundings();
  return (
    <>
      <span className="muted small">a page for people without an account, with</span>
      <Several
        className="columns-select"
        aria-label={label}
        disabled={readOnly}
        popupMatchSelectWidth={false}
        value={typeof share === 'string' ? [share] : share}
        options={fields.map((f) => ({ value: f.name, label: f.label }))}
        onChange={change}
      />
    </>
  );
}

interface TextProps {
  label: string;
  hint?: string;
  value: string;
  change: (v: string) => void;
}

/** A text with chips, and what puts fields into it. */
function Text({ label, hint, value, change }: TextProps) {
  const { readOnly } = useSurroundings();
  const chip = useRef<ChipHandle>(null);
  const set = useLatest(change);
  const id = 'part-' + label.replaceAll(/\W+/g, '-');
  return (
    <span className="parttext">
      {hint && <span className="muted small">{hint}</span>}
      <ChipInput id={id} label={label} value={value} readOnly={readOnly} change={set} handle={chip} />
      {!readOnly && (
        <FieldPicker
          aria={`Insert a field into: ${label}`}
          label="+"
          insert={(f) => chip.current?.insert(f)}
        />
      )}
    </span>
  );
}

/** A file that lies at an address, which may be a field's. */
function FetchedPart({ n, file, change }: Pick<FileProps, 'n' | 'change'> & { file: File }) {
  const { readOnly } = useSurroundings();
  return (
    <>
      <span>File</span>
      <div className="morepart">
        <Text
          label={`Address of file ${n}`}
          hint="its address"
          value={file.from ?? ''}
          change={(from) => change({ ...file, from })}
        />
        <Text
          label={`Name of file ${n}`}
          hint="called"
          value={file.name ?? ''}
          change={(name) => change(filled(file, { name }))}
        />
        {!readOnly && <RemoveButton label={`Remove file ${n}`} remove={() => change(undefined)} />}
      </div>
    </>
  );
}

interface FileProps {
  n: number;
  file: TableFile;
  gathered: string[];
  change: (next: File | undefined) => void;
}

const fieldOf = (c: Column) => (typeof c === 'string' ? c : c.field);

/** A table of records that goes with the message as a file. */
function FilePart({ n, file, gathered, change }: FileProps) {
  const { readOnly, gathered: known } = useSurroundings();
  const of = known.find((g) => g.name === file.table.of);
  const columns = file.table.columns.map(fieldOf);
  return (
    <>
      <span>File</span>
      <div className="morepart">
        <Input
          className="side-select"
          aria-label={`Name of file ${n}`}
          value={file.name}
          readOnly={readOnly}
          onChange={(e) => change({ ...file, name: e.target.value })}
        />
        <span className="muted">with</span>
        <Select
          aria-label={`Records of file ${n}`}
          disabled={readOnly}
          popupMatchSelectWidth={false}
          value={file.table.of}
          options={[...new Set([...gathered, file.table.of])].map((value) => ({ value, label: value }))}
          onChange={(list: string) => change({ ...file, table: { ...file.table, of: list } })}
        />
        <Several
          typed
          className="columns-select"
          aria-label={`Columns of file ${n}`}
          disabled={readOnly}
          popupMatchSelectWidth={false}
          value={columns}
          options={(of?.fields ?? []).map((f) => ({ value: f.name, label: f.label }))}
          onChange={(next: string[]) => {
            const kept = next.map((name) => file.table.columns.find((c) => fieldOf(c) === name) ?? name);
            change({ ...file, table: { ...file.table, columns: kept } });
          }}
        />
        {!readOnly && <RemoveButton label={`Remove file ${n}`} remove={() => change(undefined)} />}
      </div>
    </>
  );
}
