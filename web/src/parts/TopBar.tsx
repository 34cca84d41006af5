import { useQueryClient } from '@tanstack/react-query';
import { Dropdown } from 'antd';
import { NavLink, useNavigate } from 'react-router';
import { api } from '../api/client';
import { useAsks, useMe, useToday, useWords } from '../api/queries';
import { useShortcuts } from './shortcuts';

const allPlaces = [
  ['/today', 'Today', 't'],
  ['/workflows', 'Workflows', 'w'],
  ['/arrivals', 'Arrivals', 'a'],
  ['/outbox', 'Outbox', 'o'],
  ['/connections', 'Connections', 'c'],
  ['/practice', 'Practice', 'p'],
] as const;

export function TopBar() {
  const me = useMe();
  const today = useToday();
  const cache = useQueryClient();
  const go = useNavigate();
  const practice = useWords().data?.practice ?? false;
  const places = allPlaces.filter(([to]) => practice || to !== '/practice');
  const { help, open } = useShortcuts(places, (to) => void go(to));
  const yours = useAsks('me', 'open').data?.pages[0]?.yours ?? 0;
  const needs = today.data?.needs?.length ?? 0;

  const signOut = async () => {
    await api.POST('/api/sign-out');
    cache.clear();
    window.location.assign('/');
  };

  return (
    <header className="topbar">
      <a className="skip" href="#place">
        Skip to the page
      </a>
      <img src="/mark.svg" alt="" width={22} height={22} />
      <span className="topbar-name">Dorfbote</span>
      <nav aria-label="Places">
        {places.map(([to, label]) => (
          <NavLink key={to} to={to}>
            {label}
            {to === '/today' && needs > 0 && <span className="count">{needs}</span>}
          </NavLink>
        ))}
      </nav>
      <NavLink to="/asked" className="topbar-asked">
        Asked of you
        {yours > 0 && <span className="count">{yours}</span>}
      </NavLink>
      <button type="button" className="plainbutton" onClick={open} aria-label="Keyboard shortcuts">
        ?
      </button>
      <Dropdown
        trigger={['click']}
        menu={{
          items: [
            { key: 'role', label: `${me.data?.email}, ${me.data?.role}`, disabled: true },
            { key: 'you', label: 'Your sessions and password', onClick: () => void go('/you') },
            { key: 'book', label: 'People book', onClick: () => void go('/people-book') },
            { key: 'people', label: 'People, teams and changes', onClick: () => void go('/people') },
            { key: 'docs', label: <a href="/api/docs">HTTP interface</a> },
            { key: 'out', label: 'Sign out', onClick: () => void signOut() },
          ],
        }}
      >
        <button type="button" className="plainbutton topbar-person">
          {me.data?.name}
        </button>
      </Dropdown>
      {help}
    </header>
  );
}
