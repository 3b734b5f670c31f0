import { useState } from 'react';

import { Button } from '@mantine/core';

import { count } from '../../shared/format';
import { changed, type Outcome, type Step } from './manifests';

/** Steps shown at first: a thousand of them are read by nobody. */
const SHOWN = 200;

/** Steps in their order, each with what it changes, what else it does, and how it went. */
export function Steps({ steps, outcomes }: { steps: Step[]; outcomes: Outcome[] }) {
  const [all, setAll] = useState(false);
  const went = new Map(outcomes.map((outcome) => [`${outcome.kind} ${outcome.name}`, outcome]));
  // what was applied is not among the steps of the next comparison
  const done = outcomes.filter((o) => !steps.some((step) => step.kind === o.kind && step.name === o.name));
  const shown = all ? steps : steps.slice(0, SHOWN);
  return (
    <>
      {done.length > 0 && (
        <p className="quiet">
          {count(done.length)} {done.length === 1 ? 'step is' : 'steps are'} done.
        </p>
      )}
      <ol className="plansteps">
        {shown.map((step) => {
          const outcome = went.get(`${step.kind} ${step.name}`);
          return (
            <li key={`${step.deed} ${step.kind} ${step.name}`} data-deed={step.deed}>
              <div className="what">
                <span className="deed">{step.deed}</span> {step.kind} <span className="name">{step.name}</span>
                {outcome && <span className="quiet"> {outcome.refused ? 'refused' : 'done'}</span>}
              </div>
              {outcome?.refused && (
                <p className="fault" role="alert">
                  {outcome.refused}
                </p>
              )}
              {step.changes.map((change) => (
                <div key={change.field} className="mono fieldchange">
                  {changed(change)}
                </div>
              ))}
              {step.says.map((sentence) => (
                <div key={sentence} className="quiet">
                  {sentence}
                </div>
              ))}
            </li>
          );
        })}
      </ol>
      {steps.length > shown.length && (
        <Button variant="subtle" size="compact-sm" onClick={() => setAll(true)}>
          Show all {count(steps.length)}
        </Button>
      )}
    </>
  );
}
