import { ActionIcon, Button, Tooltip, useComputedColorScheme, useMantineColorScheme } from '@mantine/core';
import { Link, useLocation } from 'react-router';

import { useLiveConnectors } from '../shared/liveConnectors';
import { DemoSwitch } from './DemoSwitch';
import { openFinder } from './Finder';
import { Person } from './Person';
import { GROUPS } from './places';

export function TopBar() {
  return (
    <header className="top">
      <Where />
      <DemoSwitch />
      <HoldSwitch />
      <Button variant="default" size="compact-sm" onClick={openFinder} aria-keyshortcuts="Control+K">
        Find <kbd style={{ marginLeft: 8 }}>Ctrl K</kbd>
      </Button>
      <Person />
      <SchemeSwitch />
    </header>
  );
}

function Where() {
  const { pathname } = useLocation();
  const { connectors } = useLiveConnectors();
  const [first, second] = pathname.split('/').filter(Boolean).map(decodeURIComponent);
  const place = GROUPS.flatMap((group) => group.places.map((p) => ({ group: group.name, ...p }))).find(
    (p) => p.to === `/${first}`,
  );
  if (!place) return <div className="where" />;
  const inner = second === 'new' ? 'New' : (connectors?.find((c) => c.id === second)?.name ?? second);
  return (
    <div className="where">
      {place.group} / <Link to={place.to}>{place.label}</Link>
      {inner && <> / {inner}</>}
    </div>
  );
}

/** Live, or held still so that it can be read. */
function HoldSwitch() {
  const { held, hold, lost } = useLiveConnectors();
  const label = lost
    ? 'No answer from Gonvel; tries again by itself'
    : held
      ? 'Go on with live values'
      : 'Hold all values still';
  return (
    <Tooltip label={label}>
      <Button
        variant="subtle"
        size="compact-sm"
        color={held || lost ? 'apricot' : 'pine'}
        onClick={() => hold(!held)}
        aria-pressed={held}
      >
        {lost ? 'No answer' : held ? 'Held still' : 'Live'}
      </Button>
    </Tooltip>
  );
}

function SchemeSwitch() {
  const { setColorScheme } = useMantineColorScheme();
  const dark = useComputedColorScheme('light') === 'dark';
  const label = dark ? 'Light paper' : 'Dark paper';
  return (
    <Tooltip label={label}>
      <ActionIcon variant="subtle" aria-label={label} onClick={() => setColorScheme(dark ? 'light' : 'dark')}>
        <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden>
          <circle cx="8" cy="8" r="6" fill="none" stroke="currentColor" strokeWidth="1.600" />
          <path d="M8 2a6 6 0 0 1 0 12z" fill="currentColor" />
        </svg>
      </ActionIcon>
    </Tooltip>
  );
}
