import './sheet.css';
import { Button, Input, Select } from 'antd';
import { memo } from 'react';
import type { ProofLines } from '../../api/client';
import { useStarters } from '../../api/queries';
import { Band, BandLine } from '../../parts/Band';
import { RemoveButton } from '../../parts/RemoveButton';
import { SpanInput } from '../../parts/SpanInput';
import { AddCondition, Condition } from './Condition';
import { withTest, type Ask, type Sheet, exchanged, dropped, filled } from './model';
import { Pick } from './Pick';
import { ProblemsAt } from './ProblemsAt';
import { useSurroundings } from './surroundings';
import { Whom } from './Whom';
import { TellTo } from './TellTo';

interface Props {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
  proof: ProofLines | undefined;
  /** The choice that the proof goes on with, by the names of the questions. */
  suppose?: Record<string, string>;
  setSuppose?: (next: Record<string, string>) => void;
}

const listOf = (of: Ask['of']) => (typeof of === 'string' ? [of] : of);
const choiceOf = (c: Ask['choices'][number]) => (typeof c === 'string' ? { name: c } : c);

/** The name of a choice, made of its words. */
const nameOf = (text: string) =>
  text
    .trim()
    .toLowerCase()
    .replace(/[^\p{L}\p{N}]+/gu, '_')
    .replace(/^_+|_+$/g, '') || 'choice';

/** Questions to people, which the workflow waits for. */
export const AskBand = memo(function AskBand({ sheet, change, proof, suppose = {}, setSuppose }: Props) {
  const { readOnly, messages } = useSurroundings();
  const { channel } = useStarters();
  const list = sheet.ask ?? [];
  if (list.length === 0) return null;
  const set = (next: Ask[]) => change({ ask: next.length ? next : undefined });
  return (
    <Band label="Ask" hint="who decides">
      {list.map((a, i) => (
        <Question
          key={i}
          ask={a}
          path={`ask[${i}]`}
          messages={messages}
          channel={channel}
          proof={(proof?.asks ?? []).find((p) => p.path === `ask[${i}]`)}
          supposed={suppose[a.name]}
          suppose={setSuppose && ((choice) => setSuppose({ ...suppose, [a.name]: choice }))}
          change={(next) => set(exchanged(list, i, next))}
          remove={() => set(dropped(list, i))}
        />
      ))}
      {!readOnly && (
        <BandLine
          ask={
            <Button
              type="link"
              size="small"
              className="add"
              onClick={() => change(withQuestion(sheet, channel))}
            >
              + question
            </Button>
          }
        />
      )}
    </Band>
  );
});

/** The sheet with one more question, and a message that puts it. */
export function withQuestion(sheet: Sheet, channel: string): Partial<Sheet> {
  const asks = sheet.ask ?? [];
  const taken = new Set([...asks.map((a) => a.name), ...(sheet.gather ?? []).map((g) => g.name)]);
  let name = 'verdict';
  for (let i = 2; taken.has(name); i++) name = `verdict${i}`;
  const messages = { ...sheet.messages };
  let message = 'question';
  for (let i = 2; messages[message]; i++) message = `question${i}`;
  const first = Object.values(messages)[0];
  messages[message] = { title: first?.title ?? sheet.name, body: 'May this go on?' };
  const ask: Ask = {
    name,
    of: [channel],
    message,
    choices: [
      { name: 'approve', text: 'Approve' },
      { name: 'decline', text: 'Decline', comment: 'required' },
    ],
    within: '2d',
    otherwise: 'decline',
  };
  return { ask: [...asks, ask], messages };
}

interface QuestionProps {
  ask: Ask;
  path: string;
  messages: string[];
  channel: string;
  proof: NonNullable<ProofLines['asks']>[number] | undefined;
  supposed: string | undefined;
  suppose: ((choice: string) => void) | undefined;
  change: (next: Ask) => void;
  remove: () => void;
}

function Question({ ask, path, messages, channel, proof, supposed, suppose, change, remove }: QuestionProps) {
  const { readOnly } = useSurroundings();
  const of = listOf(ask.of);
  const choices = ask.choices.map(choiceOf);
  const when = ask.when && Object.keys(ask.when).length > 0 ? ask.when : undefined;
  const put = (next: Partial<Ask>) => change(filled(ask, next));
  const remind = Array.isArray(ask.remind) ? ask.remind.join(', ') : (ask.remind ?? '');
  return (
    <>
      <BandLine
        className="askline"
        ask={
          <>
            <div className="inline">
              <span>ask</span>
              {of.map((to, i) => (
                <span key={i} className="tell">
                  <TellTo
                    to={to}
                    id={`${path}-${i}`}
                    label={`Person ${i + 1} who is asked ${ask.name}`}
                    change={(next) => put({ of: exchanged(of, i, next) })}
                  />
                  {!readOnly && of.length > 1 && (
                    <RemoveButton
                      label={`Do not ask person ${i + 1} about ${ask.name}`}
                      remove={() => put({ of: dropped(of, i) })}
                    />
                  )}
                </span>
              ))}
              {!readOnly && (
                <Button
                  type="text"
                  size="small"
                  aria-label={`Ask somebody else ${ask.name}, too`}
                  onClick={() => put({ of: [...of, channel] })}
                >
                  +
                </Button>
              )}
              {of.length > 1 && (
                <Pick
                  label={`Who decides ${ask.name}`}
                  value={ask.all === true}
                  options={[
                    { value: false, label: 'whoever answers first decides' },
                    { value: true, label: 'everybody has to agree' },
                  ]}
                  change={(all: boolean) => put({ all: all || undefined })}
                />
              )}
              <span>by</span>
              <Select
                className="message-select"
                aria-label={`Message of question ${ask.name}`}
                disabled={readOnly}
                value={ask.message}
                options={messages.map((n) => ({ value: n, label: n }))}
                onChange={(message: string) => put({ message })}
              />
              {!readOnly && <RemoveButton label={`Remove question ${ask.name}`} remove={remove} />}
            </div>
            <Choices ask={ask} choices={choices} put={put} />
            <div className="inline">
              <span>within</span>
              <SpanInput
                label={`How long question ${ask.name} waits`}
                value={ask.within ?? ''}
                usual="7d"
                readOnly={readOnly}
                change={(within) => put({ within })}
              />
              <span>remind after</span>
              <Input
                className="span-value"
                aria-label={`When question ${ask.name} is reminded of`}
                placeholder="never"
                value={remind}
                readOnly={readOnly}
                onChange={(e) => {
                  const list = e.target.value.split(/[\s,]+/).filter(Boolean);
                  put({ remind: list.length > 1 ? list : list[0] });
                }}
              />
              <span>, and if nobody answers</span>
              <Pick
                label={`What counts where nobody answers ${ask.name}`}
                value={ask.otherwise ?? ''}
                options={[
                  { value: '', label: 'nothing is chosen' },
                  ...choices.map((c) => ({ value: c.name, label: c.text || c.name })),
                ]}
                change={(otherwise: string) => put({ otherwise })}
              />
            </div>
            <div className="inline muted">
              <span>
                known below as <b>{ask.name}.choice</b>, .by, .comment and .at
              </span>
              {!readOnly && !when && (
                <AddCondition label="+ only when" add={(test) => put({ when: withTest(undefined, test) })} />
              )}
            </div>
            <ProblemsAt path={path} />
          </>
        }
        proof={
          proof && (
            <AskProof
              proof={proof}
              choices={choices}
              choice={supposed ?? proof.choice}
              suppose={readOnly ? undefined : suppose}
              name={ask.name}
            />
          )
        }
      />
      {when && (
        <Condition
          cond={when}
          path={`${path}.when`}
          line={proof?.line ?? undefined}
          change={(next) => put({ when: next })}
          lead="only when"
          depth={1}
        />
      )}
    </>
  );
}

type Choice = Exclude<Ask['choices'][number], string>;

function Choices({ ask, choices, put }: { ask: Ask; choices: Choice[]; put: (next: Partial<Ask>) => void }) {
  const { readOnly } = useSurroundings();
  const set = (i: number, next: Choice) => put({ choices: choices.map((c, n) => (n === i ? next : c)) });
  return (
    <div className="askchoices">
      {choices.map((c, i) => (
        <span key={i} className="inline askchoice">
          <Input
            className="side-select"
            aria-label={`Choice ${i + 1} of ${ask.name}`}
            value={c.text ?? c.name}
            readOnly={readOnly}
            onChange={(e) => set(i, { ...c, text: e.target.value })}
            onBlur={() => {
              // The name follows the words only while nothing below can speak of it by another.
              if (/^choice\d*$/.test(c.name) && c.text) set(i, { ...c, name: nameOf(c.text) });
            }}
          />
          <Select
            size="small"
            variant="borderless"
            aria-label={`Comment of choice ${i + 1} of ${ask.name}`}
            disabled={readOnly}
            popupMatchSelectWidth={false}
            value={c.comment ?? 'optional'}
            options={[
              { value: 'optional', label: 'with or without a comment' },
              { value: 'required', label: 'with a comment' },
              { value: 'none', label: 'without a comment' },
            ]}
            onChange={(comment: 'none' | 'optional' | 'required') =>
              set(i, comment === 'optional' ? { name: c.name, text: c.text } : { ...c, comment })
            }
          />
          {!readOnly && choices.length > 2 && (
            <RemoveButton
              label={`Remove choice ${i + 1} of ${ask.name}`}
              remove={() => put({ choices: dropped(choices, i) })}
            />
          )}
        </span>
      ))}
      {!readOnly && (
        <Button
          type="link"
          size="small"
          onClick={() => put({ choices: [...choices, { name: `choice${choices.length + 1}`, text: '' }] })}
        >
          + choice
        </Button>
      )}
    </div>
  );
}

interface AskProofProps {
  proof: NonNullable<QuestionProps['proof']>;
  choices: Choice[];
  choice: string;
  suppose: ((choice: string) => void) | undefined;
  name: string;
}

/** Who would be asked of the chosen arrival, and with which answer the lines below go on. */
function AskProof({ proof, choices, choice, suppose, name }: AskProofProps) {
  return (
    <span className="seen">
      <b className={proof.put ? 'good' : 'muted'}>{proof.put ? '● is asked' : '– is not asked'}</b>
      <Whom of={proof.of} />
      {proof.put && (
        <span className="inline">
          <span className="muted">{suppose ? 'supposing they choose' : 'they chose'}</span>
          {suppose ? (
            <Pick
              label={`Supposed answer to ${name}`}
              value={choice}
              options={choices.map((c) => ({ value: c.name, label: c.text || c.name }))}
              change={suppose}
            />
          ) : (
            <b>{choices.find((c) => c.name === choice)?.text ?? choice}</b>
          )}
          {!suppose && proof.by && <span className="muted">{proof.by}</span>}
        </span>
      )}
    </span>
  );
}
