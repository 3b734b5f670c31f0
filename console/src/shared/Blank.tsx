import type { ReactNode } from 'react';

/** An empty screen: what to do first, and the offer to do it. */
export function Blank({ title, children, action }: { title: string; children: ReactNode; action?: ReactNode }) {
  return (
    <div className="sheet">
      <div className="empty">
        <strong>{title}</strong>
        <p>{children}</p>
        {action}
      </div>
    </div>
  );
}
