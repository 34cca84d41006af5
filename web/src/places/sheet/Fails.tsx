import { Button, Dropdown } from 'antd';
import { useStarters } from '../../api/queries';
import { ProblemsAt } from './ProblemsAt';
import type { Tell } from './model';
import { useSurroundings } from './surroundings';
import { Tells } from './Tells';
import { placeWords } from './placeWords';

type IfFails<W extends string> = W | { tell: Tell[] } | undefined;

interface Props<W extends string> {
  value: IfFails<W>;
  /** Of what may fail. */
  path: string;
  /** What a failure may lead to besides telling somebody, the usual one first. */
  ways: Record<W, string>;
  change: (next: IfFails<W>) => void;
}

/** What a failure leads to: one of the ways, or somebody is told. */
export function Fails<W extends string>({ value, path, ways, change }: Props<W>) {
  const { readOnly, messages } = useSurroundings();
  const { channel } = useStarters();
  const names = Object.keys(ways) as W[];
  const usual = names[0]!;
  const tells = typeof value === 'object' ? value.tell : undefined;
  const words = tells ? 'tell a channel' : (ways[typeof value === 'string' ? value : usual] ?? String(value));
  return (
    <>
      <span>If that fails,</span>
      <Dropdown
        disabled={readOnly}
        trigger={['click']}
        menu={{
          items: [
            ...names.map((key) => ({
              key,
              label: ways[key],
              onClick: () => change(key === usual ? undefined : key),
            })),
            {
              key: 'tell',
              label: 'tell a channel',
              onClick: () => change({ tell: tells ?? [{ to: channel, message: messages[0] ?? 'alert' }] }),
            },
          ],
        }}
      >
        <Button size="small" aria-label={`${words} ▾, if ${placeWords(path)} fails`}>
          {words} ▾
        </Button>
      </Dropdown>
      {tells && <Tells tell={tells} path={`${path}.if_fails`} where={`a failure of ${placeWords(path)}`} />}
      <ProblemsAt path={`${path}.if_fails`} />
    </>
  );
}
