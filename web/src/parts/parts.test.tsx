import { expect, it } from 'vitest';
import { act, useState } from 'react';
import { chosen, drawn, labelled, pressed, saying, typed } from '../testing';
import { Attempts, pretty } from './Attempts';
import { ChoiceFilter, FilterHead, TextFilter, useFilters } from './FilterHead';
import { LaterWords } from './LaterWords';
import { QuestionsEditor } from './QuestionsEditor';
import { Several } from './Several';
import { SpanInput } from './SpanInput';
import { Verdict } from './Verdict';

it('reads a span back in words, and says what one is where it cannot', async () => {
  for (const [value, words] of [
    ['45m', '45 minutes'],
    ['1h30m', '1 hour 30 minutes'],
    ['1.5h', '1.5 hours'],
    ['2w', '2 weeks'],
    ['1d', '1 day'],
    ['', 'such as 45m, 2h, 3d'],
    ['soon', 'such as 45m, 2h, 3d'],
    ['5m later', 'such as 45m, 2h, 3d'],
  ]) {
    const page = await drawn(<SpanInput label="Span" value={value!} change={() => undefined} />);
    expect(page.at.textContent, value).toBe(words);
    await page.gone();
  }
  let got = '';
  const page = await drawn(<SpanInput label="Span" value="" change={(v) => (got = v)} />);
  await typed(labelled('Span'), ' 1 h ');
  expect(got).toBe('1h');
  await page.gone();
});

it('shows each verdict by its word beside its shape, so that no colour is needed', async () => {
  const page = await drawn(
    <>
      {['told', 'given up', 'something new'].map((v) => (
        <Verdict key={v} is={v} />
      ))}
    </>,
  );
  const shown = [...page.at.querySelectorAll('.verdict')];
  expect(shown.map((v) => v.textContent)).toEqual(['●told', '✕given up', '·something new']);
  expect(shown[1]!.className).toContain('verdict-given-up');
  expect(shown[0]!.querySelector('[aria-hidden="true"]')).not.toBeNull();
  await page.gone();
});

it('says when what was held was told, and nothing of what was not', async () => {
  const page = await drawn(
    <>
      <p id="a">
        <LaterWords later="digest" at="2026-11-20T07:00:00Z" />
      </p>
      <p id="b">
        <LaterWords later="released" at="2026-11-20T07:00:00Z" />
      </p>
      <p id="c">
        <LaterWords later="" at={null} />
      </p>
    </>,
  );
  expect(page.at.querySelector('#a')!.textContent).toMatch(/; told in a digest/);
  expect(page.at.querySelector('#b')!.textContent).toMatch(/; told (?!in)/);
  expect(page.at.querySelector('#c')!.textContent).toBe('');
  await page.gone();
});

it('sets out JSON, keeps the digits of big numbers, and leaves other text as it is', () => {
  expect(pretty('{"a":1}')).toBe('{\n  "a": 1\n}');
  expect(pretty('<html>')).toBe('<html>');
  expect(pretty('')).toBe('');
});

it('shows the last try whole and the earlier ones folded', async () => {
  const tried = (status: number, answer: string, at: string) => ({
    at,
    status,
    answer,
    took_ms: 12,
    address: 'POST http://chat.example/posts',
    sent: '{"title":"x"}',
  });
  const page = await drawn(
    <Attempts
      state="sent"
      tried={[
        tried(201, '{"id":"7"}', '2026-11-20T07:02:00Z'),
        tried(0, '', '2026-11-20T07:01:00Z'),
        tried(500, 'no', '2026-11-20T07:00:00Z'),
      ]}
    />,
  );
  expect(page.at.querySelector('[aria-label="Body as sent"]')!.textContent).toContain('"title": "x"');
  expect(page.at.querySelector('summary')!.textContent).toBe('2 earlier tries');
  expect(page.at.textContent).toContain('Try 3');
  expect(page.at.textContent).toContain('no answer');
  await page.draw(<Attempts state="waiting" tried={[]} />);
  expect(page.at.textContent).toBe('It has not been tried yet.');
  await page.draw(<Attempts state="sent" tried={[]} />);
  expect(page.at.textContent).toBe('What went out and came back was not kept.');
  await page.gone();
});

function Listed({ seen }: { seen: (q: Record<string, string | undefined>) => void }) {
  const { get, set } = useFilters();
  seen({ state: get('state'), q: get('q'), post: get('post') });
  return (
    <FilterHead title="Posts">
      <ChoiceFilter
        label="State"
        every="Every state"
        value={get('state') as 'sent' | undefined}
        values={['sent', 'waiting'] as const}
        set={(v) => set('state', v, 'post')}
      />
      <TextFilter label="Text" value={get('q')} set={(v) => set('q', v)} />
    </FilterHead>
  );
}

it('keeps in the address what a list is narrowed to', async () => {
  let now: Record<string, string | undefined> = {};
  const page = await drawn(<Listed seen={(q) => (now = q)} />, '/outbox?q=milk&post=7');
  expect(now).toEqual({ state: undefined, q: 'milk', post: '7' });
  await chosen('State', 'waiting');
  expect(now).toEqual({ state: 'waiting', q: 'milk', post: undefined });
  await typed(labelled('Text'), '');
  await pressed(page.at.querySelector('.ant-input-search button'));
  expect(now).toEqual({ state: 'waiting', q: undefined, post: undefined });
  await page.gone();
});

type Asked = { name: string; label?: string; type?: string; required?: boolean; options?: string[] | null };

it('makes questions, whose names follow their words until somebody names them', async () => {
  const form: { now: Asked[] } = { now: [] };
  function Form() {
    const [list, setList] = useState<Asked[]>([]);
    return (
      <QuestionsEditor
        questions={list}
        types={['text', 'number', 'choice']}
        named
        change={(next) => {
          form.now = next;
          setList(next);
        }}
      />
    );
  }
  const page = await drawn(<Form />);
  await pressed(saying('+ question'));
  await pressed(saying('+ question'));
  expect(form.now.map((q) => q.name)).toEqual(['question', 'question_2']);
  await typed(labelled('Question 1'), 'Wie viele Käse?');
  expect(form.now[0]).toMatchObject({ name: 'wie_viele_kase', label: 'Wie viele Käse?' });
  await typed(labelled('Question 1'), '2nd visit');
  expect(form.now[0]!.name).toBe('q_2nd_visit');
  await chosen('Type of question 2', 'choice');
  expect(form.now[1]).toMatchObject({ type: 'choice', options: ['Yes', 'No'] });
  await chosen('Type of question 2', 'number');
  expect(form.now[1]!.options).toBeUndefined();
  await pressed(page.at.querySelectorAll('input[type="checkbox"]')[1]!);
  expect(form.now[1]!.required).toBe(true);
  await pressed(labelled('Move question 2 up'));
  expect(form.now.map((q) => q.name)).toEqual(['question_2', 'q_2nd_visit']);
  expect(labelled('Move question 1 up')).toHaveProperty('disabled', true);
  await typed(labelled('Help for question 1'), 'A whole number.');
  expect(form.now[0]).toMatchObject({ help: 'A whole number.' });
  await pressed(labelled('Remove question 1'));
  expect(form.now.map((q) => q.name)).toEqual(['q_2nd_visit']);
  expect(page.at.textContent).toContain('answers.q_2nd_visit');
  await page.gone();
});

it('goes on by Tab from a choice of several, and keeps what was chosen', async () => {
  const got: string[][] = [];
  function Days() {
    const [value, setValue] = useState<string[]>([]);
    got.push(value);
    return (
      <Several
        aria-label="Days"
        value={value}
        onChange={(next: string[]) => setValue(next)}
        options={['Mon', 'Tue'].map((d) => ({ value: d }))}
      />
    );
  }
  const page = await drawn(<Days />);
  const key = (name: string, keyCode: number) =>
    act(async () => {
      labelled('Days')!.dispatchEvent(
        new KeyboardEvent('keydown', { key: name, keyCode, which: keyCode, bubbles: true, cancelable: true }),
      );
      labelled('Days')!.dispatchEvent(new KeyboardEvent('keyup', { key: name, keyCode, bubbles: true }));
      await Promise.resolve();
    });
  await key('Enter', 13);
  await key('ArrowDown', 40);
  await key('Enter', 13);
  expect(got.at(-1)).toHaveLength(1);
  const before = got.at(-1);
  await key('Tab', 9);
  expect(got.at(-1)).toEqual(before);
  await page.gone();
});
