import './sheet.css';
import { Button, Input, Segmented, Tabs } from 'antd';
import type { ProofLines } from '../../api/client';
import { Band, BandLine } from '../../parts/Band';
import { Guard } from '../../parts/Guard';
import { ProblemsAt } from './ProblemsAt';
import { toldAs } from '../../parts/template';
import { useLatest } from '../../parts/useLatest';
import { ChipInput } from './compose/ChipInput';
import type { ChipHandle } from './compose/Handle';
import { Marks } from './compose/Marks';
import { FieldPicker } from './FieldPicker';
import { ListPart } from './ListPart';
import { MessageMore } from './MessageMore';
import { postsWords } from './placeWords';
import { TryIt } from './TryIt';
import { Preview } from './Preview';
import { renamed, tosOf, withoutMessage, type Message, type Sheet, dropped } from './model';
import { eachNames } from './names';
import { eachOf } from './TellMore';
import { Surroundings, useSurroundings } from './surroundings';
import { memo, useCallback, useMemo, useRef, useState } from 'react';
import { RemoveButton } from '../../parts/RemoveButton';

const tones = ['plain', 'good', 'warning', 'urgent'];

interface Props {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
  proof: ProofLines | undefined;
}

/** The messages: what is written on the left, the finished message on the right. */
export const TellBand = memo(function TellBand({ sheet, change, proof }: Props) {
  const { readOnly } = useSurroundings();
  const messages = sheet.messages ?? {};
  const names = Object.keys(messages);
  const [shown, setShown] = useState(names[0] ?? '');
  const name = names.includes(shown) ? shown : (names[0] ?? '');
  const message = messages[name];
  const set = (next: Partial<Message>) => {
    // A part that is emptied is left out, so that the sheet says only what it means.
    const filled = Object.entries({ ...message, ...next }).filter(
      ([, v]) => v !== undefined && v !== '' && !(Array.isArray(v) && v.length === 0),
    );
    const merged: Message = Object.fromEntries(filled);
    change({ messages: { ...messages, [name]: merged } });
  };
  const add = () => {
    let next = 'message';
    for (let i = 2; messages[next]; i++) next = `message${i}`;
    change({ messages: { ...messages, [next]: { body: '${record.id}' } } });
    setShown(next);
  };
  const gathered = (sheet.gather ?? []).filter((g) => g.find?.take === 'all').map((g) => g.name);
  const drawn = proof?.messages?.[name];
  return (
    <Band label="Tell" hint="what they read">
      <BandLine
        className="tellline"
        ask={
          <>
            {names.length > 1 && (
              <Tabs
                size="small"
                activeKey={name}
                onChange={setShown}
                items={names.map((n) => ({ key: n, label: n }))}
              />
            )}
            {message && (
              <EachAround each={eachWith(sheet, name)}>
                {(group) => (
                  <MessageEditor
                    key={name}
                    name={name}
                    message={message}
                    set={set}
                    gathered={group ? [...gathered, group] : gathered}
                  />
                )}
              </EachAround>
            )}
            {!readOnly && (
              <div className="inline">
                <Button type="link" size="small" onClick={add}>
                  + message
                </Button>
                {names.length > 1 && message && (
                  <MessageName
                    key={name}
                    name={name}
                    taken={names}
                    rename={(to) => {
                      change(renamed(sheet, name, to));
                      setShown(to);
                    }}
                    remove={() => change(withoutMessage(sheet, name))}
                  />
                )}
              </div>
            )}
          </>
        }
        proof={
          drawn?.skipped ? (
            <p className="muted">The list is empty, so nothing is sent.</p>
          ) : drawn?.error ? (
            <p className="bad">✕ {drawn.error}</p>
          ) : (
            drawn?.doc && (
              <div data-testid="preview">
                <Guard what="The preview" of={drawn}>
                  <Preview drawn={drawn} message={name} tos={tosOf(sheet, name)} posts={proof?.posts} />
                </Guard>
                <p className="muted small">{postsWords(proof, name)}</p>
                <TryIt message={name} />
              </div>
            )
          )
        }
      />
    </Band>
  );
});

/** The list that the tells of a message go through, "" where they make one post. */
const eachWith = (sheet: Sheet, message: string) =>
  [...(sheet.route.rows ?? []), ...(sheet.route.otherwise ? [sheet.route.otherwise] : [])]
    .flatMap((b) => b.tell ?? [])
    .filter((t) => t.each && (t.message === message || t.reply === message))
    .map(eachOf)[0] ?? '';

/** Has a message that is told for each of a list speak of its items. */
function EachAround({ each, children }: { each: string; children: (group?: string) => React.ReactNode }) {
  const around = useSurroundings();
  const { names, group } = useMemo(() => eachNames(each, around.gathered), [each, around.gathered]);
  const inner = useMemo(
    () => ({
      ...around,
      all: [...names, ...around.all],
      gathered: group ? [...around.gathered, group] : around.gathered,
    }),
    [around, names, group],
  );
  return <Surroundings.Provider value={inner}>{children(group?.name)}</Surroundings.Provider>;
}

interface EditorProps {
  name: string;
  message: Message;
  gathered: string[];
  set: (next: Partial<Message>) => void;
}

function MessageEditor({ name, message, gathered, set }: EditorProps) {
  const { readOnly, chips } = useSurroundings();
  const setTitle = useLatest((title: string) => set({ title }));
  const setBody = useLatest((body: string) => set({ body }));
  const setLink = useLatest((to: string) => set({ link: linkOf(message.link?.text ?? '', to) }));
  const setFact = useLatest((i: number, value: string) =>
    set({ facts: (message.facts ?? []).map((g, j) => (j === i ? { ...g, value } : g)) }),
  );
  const facts = message.facts ?? [];
  const path = `messages.${name}`;
  const title = useRef<ChipHandle>(null);
  const body = useRef<ChipHandle>(null);
  const address = useRef<ChipHandle>(null);
  return (
    <div className="composer">
      <span>Title</span>
      <div className="with-picker">
        <ChipInput
          id="msg-title"
          label="Title"
          words
          value={message.title ?? ''}
          readOnly={readOnly}
          change={setTitle}
          handle={title}
        />
        {!readOnly && <FieldPicker insert={(f) => title.current?.insert(f)} />}
      </div>
      {!message.like && (
        <>
          <span>Text</span>
          <div className="with-picker">
            <ChipInput
              id="msg-body"
              label="Text"
              lines
              marks
              words
              value={message.body ?? ''}
              readOnly={readOnly}
              change={setBody}
              handle={body}
            />
            {!readOnly && (
              <span className="body-tools">
                <FieldPicker insert={(f) => body.current?.insert(f)} />
                <Marks set={(m) => body.current?.mark(m)} />
              </span>
            )}
          </div>
          <ListPart list={message.list} gathered={gathered} change={(list) => set({ list })} />
          <span>Facts</span>
          <div>
            {facts.map((f, i) => (
              <div key={i} className="fact">
                <Input
                  aria-label={`Label of fact ${i + 1}`}
                  value={f.label}
                  readOnly={readOnly}
                  onChange={(e) =>
                    set({ facts: facts.map((g, j) => (j === i ? { ...g, label: e.target.value } : g)) })
                  }
                />
                <FactValue index={i} value={String(f.value)} change={setFact} />
                {!readOnly && (
                  <RemoveButton
                    label={`Remove fact ${i + 1}`}
                    remove={() => set({ facts: dropped(facts, i) })}
                  />
                )}
              </div>
            ))}
            {!readOnly && (
              <FieldPicker
                label="+ fact"
                pick={(n) =>
                  set({ facts: [...facts, { label: n.label, value: '${' + toldAs(n.path, chips) + '}' }] })
                }
              />
            )}
          </div>
        </>
      )}
      <span>Tone</span>
      <Segmented
        size="small"
        disabled={readOnly}
        aria-label="Tone"
        value={message.tone ?? 'plain'}
        options={tones}
        onChange={(tone) => set({ tone })}
      />
      <span>Link</span>
      <div className="fact">
        <Input
          aria-label="Text of the link"
          placeholder="Text"
          value={message.link?.text ?? ''}
          readOnly={readOnly}
          onChange={(e) => set({ link: linkOf(e.target.value, message.link?.to ?? '') })}
        />
        <ChipInput
          id="msg-link"
          label="Address of the link"
          value={message.link?.to ?? ''}
          readOnly={readOnly}
          change={setLink}
          handle={address}
        />
        {!readOnly && (
          <FieldPicker aria="Insert a field into the address" insert={(f) => address.current?.insert(f)} />
        )}
      </div>
      <MessageMore name={name} message={message} gathered={gathered} set={set} />
      <ProblemsAt path={path} />
    </div>
  );
}

const linkOf = (text: string, to: string) => (text || to ? { text, to } : undefined);

interface FactProps {
  index: number;
  value: string;
  change: (index: number, value: string) => void;
}

/** The value of a fact. */
const FactValue = memo(function FactValue({ index, value, change }: FactProps) {
  const { readOnly } = useSurroundings();
  const set = useCallback((v: string) => change(index, v), [change, index]);
  const chip = useRef<ChipHandle>(null);
  return (
    <>
      <ChipInput
        id={`msg-fact-${index}`}
        label={`Value of fact ${index + 1}`}
        value={value}
        readOnly={readOnly}
        change={set}
        words
        handle={chip}
      />
      {!readOnly && (
        <FieldPicker
          aria={`Insert a field into fact ${index + 1}`}
          label="+"
          insert={(f) => chip.current?.insert(f)}
        />
      )}
    </>
  );
});

interface NameProps {
  name: string;
  taken: string[];
  rename: (to: string) => void;
  remove: () => void;
}

/** What a message is called among others, and taking it away. */
function MessageName({ name, taken, rename, remove }: NameProps) {
  const [text, setText] = useState(name);
  const done = () => {
    if (text && text !== name && !taken.includes(text)) rename(text);
    else setText(name);
  };
  return (
    <>
      <span className="muted">called</span>
      <Input
        size="small"
        className="gather-name"
        aria-label="Name of the message"
        value={text}
        onChange={(e) => setText(e.target.value.replace(/[^A-Za-z0-9_]/g, ''))}
        onBlur={done}
        onPressEnter={done}
      />
      <RemoveButton label={`Remove the message ${name}`} remove={remove} />
    </>
  );
}
