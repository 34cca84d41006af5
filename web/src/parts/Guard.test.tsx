import { afterEach, beforeEach, expect, it, vi } from 'vitest';
import { drawn, pressed, saying } from '../testing';
import { Guard } from './Guard';

beforeEach(() => void vi.spyOn(console, 'error').mockImplementation(() => undefined));
afterEach(() => vi.restoreAllMocks());

const Drawn = ({ text }: { text: string | undefined }) => <p>{text!.toUpperCase()}</p>;

const shown = (text: string | undefined) => (
  <>
    <p>beside it</p>
    <Guard what="The preview" of={text}>
      <Drawn text={text} />
    </Guard>
  </>
);

it('keeps what stands beside a part that cannot be drawn, and draws it again for something else', async () => {
  const page = await drawn(shown('milk'));
  await page.draw(shown(undefined));
  expect(page.at.textContent).toContain('beside it');
  expect(page.at.querySelector('[role=alert]')?.textContent).toContain("The preview can't be shown.");
  await page.draw(shown('whey'));
  expect(page.at.textContent).toBe('beside itWHEY');
});

it('draws it again when asked to', async () => {
  let broken = true;
  const Once = () => {
    if (broken) throw new Error('no ink');
    return <p>drawn</p>;
  };
  const page = await drawn(
    <Guard what="This page">
      <Once />
    </Guard>,
  );
  expect(page.at.textContent).toContain('no ink');
  broken = false;
  await pressed(saying('Show it again'));
  expect(page.at.textContent).toBe('drawn');
});
