import type { Schemas } from '../api/client';

type State = Schemas['State'];

/** One shape per state, drawn in a 12 by 12 field, so that colour never speaks alone. */
const SHAPES: Record<State, React.ReactNode> = {
  draft: <rect x="1.500" y="1.500" width="9" height="9" fill="none" stroke="currentColor" strokeDasharray="2 2" />,
  starting: <path d="M6 1a5 5 0 0 1 0 10z" fill="currentColor" />,
  loading: (
    <g fill="currentColor">
      <rect x="1" y="8" width="10" height="3" />
      <rect x="1" y="4.500" width="7" height="2.500" />
      <rect x="1" y="1" width="4" height="2.500" />
    </g>
  ),
  following: <path d="M1 3l5 3-5 3zM6 3l5 3-5 3z" fill="currentColor" />,
  paused: (
    <g fill="currentColor">
      <rect x="2" y="1.500" width="3" height="9" />
      <rect x="7" y="1.500" width="3" height="9" />
    </g>
  ),
  stopped: (
    <rect x="1.750" y="1.750" width="8.500" height="8.500" fill="none" stroke="currentColor" strokeWidth="1.500" />
  ),
  retrying: (
    <path d="M10 6a4 4 0 1 1-1.600-3.200M10.500 1v3h-3" fill="none" stroke="currentColor" strokeWidth="1.600" />
  ),
  halted: <path d="M6 .8L11.600 11H.4z" fill="currentColor" />,
};

export function toneOf(state: State): 'well' | 'warn' | 'quiet' {
  if (state === 'retrying' || state === 'halted') return 'warn';
  return state === 'draft' || state === 'paused' || state === 'stopped' ? 'quiet' : 'well';
}

/** A state as a word, a shape and a colour. */
export function StateMark({ state, deleting }: { state: State; deleting?: boolean }) {
  return (
    <span className="state" data-tone={toneOf(state)}>
      <svg width="12" height="12" viewBox="0 0 12 12" aria-hidden>
        {SHAPES[state]}
      </svg>
      {deleting ? 'deleting' : state}
    </span>
  );
}
