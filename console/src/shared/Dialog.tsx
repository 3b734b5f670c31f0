import { Modal, type ModalProps } from '@mantine/core';
import { useLayoutEffect, useRef, type FocusEvent } from 'react';

const FIRST = 'data-autofocus';

/**
 * A dialog. The field marked `data-autofocus` has the focus first; once a person has gone to another, it stays there: the
 * dialog's own focusing comes a moment after its fields can be used, and would send what is being typed elsewhere.
 */
export function Dialog({ children, ...props }: ModalProps) {
  const before = useRef<Element | null>(null);
  useLayoutEffect(() => {
    before.current = document.activeElement;
    return () => {
      // removed while open: what had the focus before gets it back, unless something else took it meanwhile
      const former = before.current;
      setTimeout(() => {
        const nowhere = document.activeElement === null || document.activeElement === document.body;
        if (nowhere && former instanceof HTMLElement && former.isConnected) former.focus({ preventScroll: true });
      });
    };
  }, []);
  return (
    <Modal size="lg" {...props} onFocusCapture={keepFirst}>
      {children}
    </Modal>
  );
}

/** Marks what has the focus as what is to have it first. */
function keepFirst(event: FocusEvent<HTMLDivElement>) {
  const content = event.target.closest('[role="dialog"]');
  if (!content || event.target === content) return;
  content.querySelectorAll(`[${FIRST}]`).forEach((field) => field.removeAttribute(FIRST));
  event.target.setAttribute(FIRST, '');
}
