import { useHotkeys } from '@mantine/hooks';
import { useEffect, useRef } from 'react';
import { NavLink, Outlet, useNavigate } from 'react-router';

import { LiveConnectors } from '../shared/liveConnectors';
import { Finder } from './Finder';
import { GROUPS } from './places';
import { TopBar } from './TopBar';

export function Frame() {
  const navigate = useNavigate();
  // what Escape closes is gone by the time that it comes here: whether something was open is noted before
  const open = useRef(false);
  useEffect(() => {
    const note = (event: KeyboardEvent) => {
      if (event.key === 'Escape') open.current = isSomethingOpen();
    };
    window.addEventListener('keydown', note, true);
    return () => window.removeEventListener('keydown', note, true);
  }, []);
  useHotkeys([['Escape', () => !open.current && closeOneLevel(navigate)]]);
  return (
    <LiveConnectors>
      <a className="skip" href="#page">
        Skip to the page
      </a>
      <div className="frame">
        <nav className="rail" aria-label="Places">
          <NavLink to="/flow" className="brand">
            <Mark />
            Gonvel
          </NavLink>
          {GROUPS.map((group) => (
            <section key={group.name} aria-label={group.name}>
              <h2>{group.name}</h2>
              {group.places.map((place) => (
                <NavLink
                  key={place.to}
                  to={place.to}
                  className={({ isActive }) => (isActive ? 'place active' : 'place')}
                >
                  {place.label}
                </NavLink>
              ))}
            </section>
          ))}
        </nav>
        <div>
          <TopBar />
          <main id="page" tabIndex={-1}>
            <Outlet />
          </main>
        </div>
      </div>
      <Finder />
    </LiveConnectors>
  );
}

/** Whether a dialog or a list is open, which Escape closes. */
function isSomethingOpen(): boolean {
  return document.querySelector('[role="dialog"], [aria-expanded="true"]') !== null;
}

/** Escape returns from one object to its list. */
function closeOneLevel(navigate: (to: string) => void) {
  const parts = window.location.pathname.split('/').filter(Boolean);
  if (parts.length > 1) navigate(`/${parts[0]}`);
}

/** Two strands that cross: what leaves one system arrives in another. */
function Mark() {
  return (
    <svg width="22" height="22" viewBox="0 0 22 22" aria-hidden fill="none" strokeWidth="2.4" strokeLinecap="round">
      <path d="M2 5c8 0 9 12 18 12" stroke="var(--well)" />
      <path d="M2 17c4 0 6-3 8-6" stroke="var(--well)" opacity="0.45" />
      <path d="M12.500 8c2-2 4-3 7.500-3" stroke="var(--apricot)" />
    </svg>
  );
}
