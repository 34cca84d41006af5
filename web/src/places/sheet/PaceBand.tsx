import './sheet.css';
import { Button, Dropdown, Input, InputNumber, Select } from 'antd';
import { memo, type ReactNode } from 'react';
import type { TrailMark } from '../../api/client';
import { useSources } from '../../api/queries';
import { SpanInput } from '../../parts/SpanInput';
import { Band, BandLine } from '../../parts/Band';
import { ProblemsAt } from './ProblemsAt';
import { sourceOf, type Pace, type Sheet } from './model';
import { useSurroundings } from './surroundings';
import { OpeningLines, weekdays } from './watch/SilentForm';
import { RemoveButton } from '../../parts/RemoveButton';
import { Several } from '../../parts/Several';

interface Props {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
  trail: TrailMark[];
}

/** How often, and at what hours, the workflow may tell anything; beside it, what that does to the trail. */
export const PaceBand = memo(function PaceBand({ sheet, change, trail }: Props) {
  const { readOnly } = useSurroundings();
  const source = sourceOf(sheet.watch);
  const key = (useSources().data?.items ?? []).find((s) => s.source === source)?.key_field || 'id';
  const pace = sheet.pace ?? {};
  const set = (next: Partial<Pace>) => {
    const filled = Object.entries({ ...pace, ...next }).filter(([, v]) => v !== undefined);
    change({ pace: filled.length ? Object.fromEntries(filled) : undefined });
  };
  const parts = [
    !pace.repeat && {
      key: 'repeat',
      label: 'Fold repeats of the same thing',
      onClick: () => set({ repeat: { key: '${record.' + key + '}', within: '2h', then: 'drop' } }),
    },
    !pace.quiet && {
      key: 'quiet',
      label: 'Keep to opening hours',
      onClick: () =>
        set({
          quiet: { open: [{ days: weekdays.slice(0, 5), from: '06:00', to: '18:00' }], urgent: 'pass' },
        }),
    },
    !pace.limit &&
      !pace.digest && {
        key: 'limit',
        label: 'Limit how many a channel gets',
        onClick: () => set({ limit: { posts: 20, per: '1h' } }),
      },
    !pace.limit &&
      !pace.digest && {
        key: 'digest',
        label: 'Tell everything in one digest',
        onClick: () => set({ digest: { at: ['07:00'] } }),
      },
    !pace.useful_for && {
      key: 'useful_for',
      label: 'Drop what could not be sent in time',
      onClick: () => set({ useful_for: '1d' }),
    },
  ].filter((p) => p !== false);
  const count = (...verdicts: string[]) => trail.filter((m) => verdicts.includes(m.verdict)).length;
  return (
    <Band label="Pace" hint="how often">
      {pace.repeat && (
        <RepeatLine
          repeat={pace.repeat}
          set={(repeat) => set({ repeat })}
          proof={<Effect n={count('repeated')} of="folded" />}
        />
      )}
      {pace.quiet && (
        <QuietLines
          quiet={pace.quiet}
          set={(quiet) => set({ quiet })}
          proof={
            <>
              <Effect n={count('held')} of="held" /> <Effect n={count('released')} of="told later" />
            </>
          }
        />
      )}
      {pace.limit && (
        <BandLine
          ask={
            <div className="inline">
              <span>at most</span>
              <InputNumber
                className="every-value"
                aria-label="At most so many posts"
                min={1}
                disabled={readOnly}
                value={pace.limit.posts}
                onChange={(posts) => set({ limit: { ...pace.limit!, posts: posts ?? 1 } })}
              />
              <span>posts for a channel in</span>
              <SpanInput
                label="Span of the limit"
                value={pace.limit.per}
                readOnly={readOnly}
                change={(per) => set({ limit: { ...pace.limit!, per } })}
              />
              <span className="muted">the rest in one digest</span>
              <Away what="the limit" go={() => set({ limit: undefined })} />
              <ProblemsAt path="pace.limit" />
            </div>
          }
          proof={
            <>
              <Effect n={count('held')} of="held back" /> <Effect n={count('digest')} of="digests" />
            </>
          }
        />
      )}
      {pace.digest && (
        <DigestLine
          digest={pace.digest}
          set={(digest) => set({ digest })}
          proof={
            <>
              <Effect n={count('held')} of="gathered" /> <Effect n={count('digest')} of="digests" />
            </>
          }
        />
      )}
      {pace.useful_for !== undefined && (
        <BandLine
          ask={
            <div className="inline">
              <span>what could not be sent is dropped after</span>
              <SpanInput
                label="How long a post is useful"
                value={pace.useful_for}
                readOnly={readOnly}
                change={(useful_for) => set({ useful_for })}
              />
              <Away what="this" go={() => set({ useful_for: undefined })} />
              <ProblemsAt path="pace.useful_for" />
            </div>
          }
        />
      )}
      {(!readOnly || !sheet.pace) && parts.length > 0 && (
        <BandLine
          ask={
            <div className="inline">
              {!sheet.pace && <span className="muted">Everything is told at once.</span>}
              {!readOnly && (
                <Dropdown trigger={['click']} menu={{ items: parts }}>
                  <Button type="link" size="small" className="add">
                    + pace
                  </Button>
                </Dropdown>
              )}
              <ProblemsAt path="pace" exact />
            </div>
          }
        />
      )}
    </Band>
  );
});

function Effect({ n, of }: { n: number; of: string }) {
  return (
    <span className="seen">
      <b>{n}</b> <span className="muted">of the trail {of}</span>
    </span>
  );
}

function Away({ what, go }: { what: string; go: () => void }) {
  if (useSurroundings().readOnly) return null;
  return <RemoveButton label={`Remove ${what}`} remove={go} />;
}

interface PartProps<T> {
  set: (next: T | undefined) => void;
  proof: ReactNode;
}

function RepeatLine({
  repeat,
  set,
  proof,
}: PartProps<NonNullable<Pace['repeat']>> & { repeat: NonNullable<Pace['repeat']> }) {
  const { readOnly } = useSurroundings();
  return (
    <BandLine
      ask={
        <div className="inline">
          <span>the same</span>
          <Input
            className="repeat-key"
            aria-label="What is the same"
            value={repeat.key}
            readOnly={readOnly}
            spellCheck={false}
            onChange={(e) => set({ ...repeat, key: e.target.value })}
          />
          <span>within</span>
          <SpanInput
            label="Span of the repeat"
            value={repeat.within}
            readOnly={readOnly}
            change={(within) => set({ ...repeat, within })}
          />
          <Select
            aria-label="What becomes of a repeat"
            popupMatchSelectWidth={false}
            disabled={readOnly}
            value={repeat.then ?? 'drop'}
            options={[
              { value: 'drop', label: 'is not told again' },
              { value: 'update', label: 'puts the post up to date' },
              { value: 'reply', label: 'is told in its thread' },
            ]}
            onChange={(then) => set({ ...repeat, then })}
          />
          <Away what="the repeat" go={() => set(undefined)} />
          <ProblemsAt path="pace.repeat" />
        </div>
      }
      proof={proof}
    />
  );
}

function QuietLines({
  quiet,
  set,
  proof,
}: PartProps<NonNullable<Pace['quiet']>> & { quiet: NonNullable<Pace['quiet']> }) {
  const { readOnly } = useSurroundings();
  const open = quiet.open ?? [];
  return (
    <>
      <BandLine
        ask={
          <div className="inline">
            <span>told in opening hours; what is urgent</span>
            <Select
              aria-label="What is urgent"
              popupMatchSelectWidth={false}
              disabled={readOnly}
              value={quiet.urgent ?? 'hold'}
              options={[
                { value: 'pass', label: 'goes out at once' },
                { value: 'hold', label: 'waits as well' },
              ]}
              onChange={(urgent) => set({ ...quiet, urgent })}
            />
            {!readOnly && (
              <Button
                type="link"
                size="small"
                onClick={() =>
                  set({ ...quiet, open: [...open, { days: ['sat'], from: '06:00', to: '12:00' }] })
                }
              >
                + hours
              </Button>
            )}
            <ProblemsAt path="pace.quiet" />
          </div>
        }
        proof={proof}
      />
      <OpeningLines
        open={open}
        readOnly={readOnly}
        change={(left) => set(left.length ? { ...quiet, open: left } : undefined)}
      />
    </>
  );
}

function DigestLine({
  digest,
  set,
  proof,
}: PartProps<NonNullable<Pace['digest']>> & { digest: NonNullable<Pace['digest']> }) {
  const { readOnly } = useSurroundings();
  const daily = digest.every === undefined;
  return (
    <BandLine
      ask={
        <div className="inline">
          <span>all in one digest</span>
          <Select
            aria-label="When the digest comes"
            popupMatchSelectWidth={false}
            disabled={readOnly}
            value={daily ? 'at' : 'every'}
            options={[
              { value: 'at', label: 'at' },
              { value: 'every', label: 'every' },
            ]}
            onChange={(how) => set(how === 'at' ? { at: ['07:00'] } : { every: '4h' })}
          />
          {daily ? (
            <Several
              typed
              className="list-select"
              aria-label="Times of the digest"
              disabled={readOnly}
              value={[digest.at ?? []].flat()}
              options={['07:00', '12:00', '17:00'].map((value) => ({ value, label: value }))}
              onChange={(at: string[]) => set({ at })}
            />
          ) : (
            <SpanInput
              label="Span of the digest"
              value={digest.every ?? ''}
              readOnly={readOnly}
              change={(every) => set({ every })}
            />
          )}
          <Away what="the digest" go={() => set(undefined)} />
          <ProblemsAt path="pace.digest" />
        </div>
      }
      proof={proof}
    />
  );
}
