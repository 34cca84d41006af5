import { useState } from 'react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Input, InputNumber, Select } from 'antd';
import { api, answerOf } from '../../../api/client';
import { useSources, useWords } from '../../../api/queries';
import { BandLine } from '../../../parts/Band';
import { ProblemsAt } from '../ProblemsAt';
import type { Schedule } from '../model';
import { useSurroundings } from '../surroundings';
import { dayCodes, dayWords, nths, read, turned, write, type Built } from './rule';
import type { FormProps } from './WatchBand';
import { Several } from '../../../parts/Several';

const hows = {
  daily: 'every so many days',
  weekly: 'on days of the week',
  'monthly-day': 'on a day of the month',
  'monthly-nth': 'on the first, second … last',
  cron: 'as cron says',
  rule: 'by a rule (RFC 5545)',
};

const nthWords = ['first', 'second', 'third', 'fourth', 'last'];

/** A calendar, built by choosing, read back in words with its next ten moments. */
export function ScheduleForm({ watch, set }: FormProps) {
  const { readOnly } = useSurroundings();
  const s = watch.schedule ?? {};
  // Cron that could be chosen, too, is shown as cron to whoever asked for cron.
  const [asCron, setAsCron] = useState(false);
  const b = read(s);
  if (asCron && s.cron !== undefined) b.how = 'cron';
  const put = (next: Partial<Built>) => set({ ...watch, schedule: write({ ...b, ...next }, s) });
  const side = (next: Partial<Schedule>) => set({ ...watch, schedule: write(b, { ...s, ...next }) });
  return (
    <>
      <BandLine
        ask={
          <div className="inline">
            <Select
              className="how-select"
              aria-label="How it recurs"
              disabled={readOnly}
              popupMatchSelectWidth={false}
              value={b.how}
              options={Object.entries(hows).map(([value, label]) => ({ value, label }))}
              onChange={(how: string) => {
                setAsCron(how === 'cron');
                put(turned(b, how as Built['how']));
              }}
            />
            <Recurrence b={b} put={put} readOnly={readOnly} />
            <ProblemsAt path="watch.schedule" />
            <Beside b={b} s={s} put={put} side={side} readOnly={readOnly} />
          </div>
        }
        proof={<ReadBack s={s} />}
      />
    </>
  );
}

interface PartProps {
  b: Built;
  put: (next: Partial<Built>) => void;
  readOnly: boolean;
}

function Recurrence({ b, put, readOnly }: PartProps) {
  if (b.how === 'cron' || b.how === 'rule') {
    const how = b.how;
    return (
      <Input
        className="formula mono"
        aria-label={how === 'cron' ? 'Cron: minute, hour, day, month, weekday' : 'Recurrence rule'}
        value={b[how]}
        readOnly={readOnly}
        onChange={(e) => put({ [how]: e.target.value })}
      />
    );
  }
  const unit = b.how === 'daily' ? 'day' : b.how === 'weekly' ? 'week' : 'month';
  return (
    <>
      <span>every</span>
      <InputNumber
        className="every-value"
        aria-label={`Every so many ${unit}s`}
        min={1}
        max={99}
        value={b.interval}
        disabled={readOnly}
        onChange={(v) => put({ interval: v ?? 1 })}
      />
      <span>{b.interval > 1 ? `${unit}s` : unit}</span>
      {b.how === 'weekly' && (
        <Several
          className="list-select"
          aria-label="Days of the week"
          disabled={readOnly}
          value={b.days}
          options={dayCodes.map((c, i) => ({ value: c, label: dayWords[i] }))}
          onChange={(days: string[]) => days.length && put({ days })}
        />
      )}
      {b.how === 'monthly-day' && (
        <InputNumber
          className="every-value"
          aria-label="Day of the month"
          min={-31}
          max={31}
          value={b.monthDay}
          disabled={readOnly}
          onChange={(v) => v && put({ monthDay: v })}
        />
      )}
      {b.how === 'monthly-nth' && (
        <>
          <Select
            aria-label="Which one"
            className="side-select"
            disabled={readOnly}
            value={b.nth}
            options={nths.map((value, i) => ({ value, label: nthWords[i] }))}
            onChange={(nth: number) => put({ nth })}
          />
          <Select
            aria-label="Which day"
            className="side-select"
            disabled={readOnly}
            value={b.nthDay}
            options={[
              { value: 'workday', label: 'workday' },
              ...dayCodes.map((c, i) => ({ value: c, label: dayWords[i] })),
            ]}
            onChange={(nthDay: string) => put({ nthDay })}
          />
        </>
      )}
    </>
  );
}

interface BesideProps extends PartProps {
  s: Schedule;
  side: (next: Partial<Schedule>) => void;
}

/** The time, the zone, what is left out, and what becomes of what was missed. */
function Beside({ b, s, put, side, readOnly }: BesideProps) {
  const zone = useWords().data?.zone ?? 'UTC';
  const sources = useSources().data?.items ?? [];
  return (
    <div className="inline">
      {b.how !== 'cron' && (
        <>
          <span>at</span>
          <Input
            type="time"
            className="clock-value"
            aria-label="Time of day"
            value={b.time}
            readOnly={readOnly}
            onChange={(e) => e.target.value && put({ time: e.target.value })}
          />
          <span>from</span>
          <Input
            type="date"
            className="date-value"
            aria-label="The first day"
            value={b.date}
            readOnly={readOnly}
            onChange={(e) => e.target.value && put({ date: e.target.value })}
          />
        </>
      )}
      <Select
        className="zone-select"
        aria-label="Time zone"
        showSearch
        disabled={readOnly}
        popupMatchSelectWidth={false}
        value={s.zone ?? zone}
        options={Intl.supportedValuesOf('timeZone').map((z) => ({ value: z, label: z }))}
        onChange={(z: string) => side({ zone: z })}
      />
      <Select
        className="side-select except-select"
        aria-label="Days that are left out"
        disabled={readOnly}
        allowClear
        popupMatchSelectWidth={false}
        placeholder="no days left out"
        value={s.except}
        options={sources.map((x) => ({ value: x.source, label: `but not on days in ${x.source}` }))}
        onChange={(except?: string) => side({ except })}
      />
      <Select
        className="missed-select"
        aria-label="What was missed while nothing ran"
        disabled={readOnly}
        popupMatchSelectWidth={false}
        value={s.missed ?? 'once'}
        options={[
          { value: 'once', label: 'missed ones are made up for once' },
          { value: 'skip', label: 'missed ones are skipped' },
        ]}
        onChange={(missed: 'once' | 'skip') => side({ missed })}
      />
    </div>
  );
}

function ReadBack({ s }: { s: Schedule }) {
  const back = useQuery({
    queryKey: ['schedule', s],
    queryFn: ({ signal }) => answerOf(api.POST('/api/schedule', { body: s, signal })),
    placeholderData: keepPreviousData,
  });
  const d = back.data;
  if (!d) return null;
  if (d.problem) return <span className="bad">✕ {d.problem}</span>;
  const show = new Intl.DateTimeFormat('en-GB', {
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
    timeZone: d.zone,
  });
  return (
    <div className="readback">
      <b>{d.words}</b>
      <ol aria-label="The next moments">
        {(d.next ?? []).map((at) => (
          <li key={at}>{show.format(new Date(at))}</li>
        ))}
      </ol>
    </div>
  );
}
