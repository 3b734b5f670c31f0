import { useMutation, useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';

import { problemOf, type Schemas } from '../api/client';
import { ConfirmByName } from './ConfirmByName';
import { bytes } from './format';

type Plan = Schemas['Plan'];

interface Props {
  name: string;
  title: string;
  action: string;
  /** What stands besides what the plan says. */
  children?: ReactNode;
  /** Asks what it would do. */
  look: () => Promise<Plan>;
  /** Has the plan with this tag carried out. */
  carryOut: (tag: string) => Promise<unknown>;
  onDone: () => void;
  onClose: () => void;
}

/** A dangerous action: shows what it would do, asks for the name, and has exactly that carried out. */
export function ConfirmPlan({ name, title, action, children, look, carryOut, onDone, onClose }: Props) {
  const plan = useQuery({
    queryKey: ['plan', title, name],
    queryFn: look,
    staleTime: Infinity,
    gcTime: 0,
    retry: false,
  });
  const done = useMutation({
    mutationFn: (tag: string) => carryOut(tag),
    onSuccess: onDone,
    // what it would do by now is looked at before it is confirmed again
    onError: () => void plan.refetch(),
  });
  return (
    <ConfirmByName
      name={name}
      title={title}
      action={action}
      problem={problemOf(done.error ?? plan.error)}
      busy={done.isPending}
      blocked={plan.data !== undefined && plan.data.against.length > 0}
      onClose={onClose}
      onConfirm={() => plan.data && done.mutate(plan.data.tag)}
    >
      {plan.data && <Planned plan={plan.data} />}
      {children}
    </ConfirmByName>
  );
}

function Planned({ plan }: { plan: Plan }) {
  return (
    <>
      {plan.says.map((line) => (
        <p key={line}>{line}</p>
      ))}
      {plan.bytes > 0 && <p>That is {bytes(plan.bytes)} as stored.</p>}
      {plan.touched.length > 0 && (
        <ul>
          {plan.touched.map(({ kind, name, says }) => (
            <li key={`${kind} ${name} ${says}`}>
              <span className="mono">{name}</span> {says}
            </li>
          ))}
        </ul>
      )}
      {plan.against.length > 0 && (
        <div className="note">
          <strong>It cannot be done while it is used</strong> by {plan.against.join(', ')}.
        </div>
      )}
    </>
  );
}
