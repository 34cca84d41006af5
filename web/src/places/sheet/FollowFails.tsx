import { Button, Dropdown } from 'antd';
import { useDestinations } from '../../api/queries';
import type { FollowStep, Sheet } from './model';
import { ProblemsAt } from './Band';
import { useAround } from './surroundings';

interface Props {
  s: FollowStep;
  sheet: Sheet;
  path: string;
  change: (next: FollowStep) => void;
}

/** What a step's failure leads to: nothing more follows, the rest follows all the same, or a channel is told. */
export function FollowFails({ s, sheet, path, change }: Props) {
  const { readOnly } = useAround();
  const destinations = useDestinations();
  const message = Object.keys(sheet.messages ?? {})[0] ?? 'alert';
  const told = typeof s.if_fails === 'object' ? s.if_fails.tell[0] : undefined;
  const words = told
    ? `tell ${told.to} “${told.message}”`
    : s.if_fails === 'go_on'
      ? 'go on with the rest'
      : 'nothing more follows';
  return (
    <>
      <span>If that fails,</span>
      <Dropdown
        disabled={readOnly}
        trigger={['click']}
        menu={{
          items: [
            {
              key: 'stop',
              label: 'nothing more follows',
              onClick: () => change({ ...s, if_fails: undefined }),
            },
            {
              key: 'go_on',
              label: 'go on with the rest',
              onClick: () => change({ ...s, if_fails: 'go_on' }),
            },
            {
              key: 'tell',
              label: 'tell a channel',
              children: (destinations.data?.items ?? []).map((d) => ({
                key: d.name,
                label: d.name,
                onClick: () =>
                  change({ ...s, if_fails: { tell: [{ to: d.name, message: told?.message ?? message }] } }),
              })),
            },
          ],
        }}
      >
        <Button size="small" aria-label={`${words} ▾, if ${path} fails`}>
          {words} ▾
        </Button>
      </Dropdown>
      <ProblemsAt path={`${path}.if_fails`} />
    </>
  );
}
