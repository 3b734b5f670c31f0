import type { KeyboardEvent } from 'react';

/** Arrow keys move between the rows of a list; Enter follows the row's own link. */
export function moveInList(event: KeyboardEvent<HTMLElement>): void {
  if (event.key !== 'ArrowDown' && event.key !== 'ArrowUp') return;
  if ((event.target as HTMLElement).closest('input, textarea, select')) return;
  const rows = [...event.currentTarget.querySelectorAll<HTMLElement>('[data-row]')];
  const at = rows.findIndex((row) => row === document.activeElement || row.contains(document.activeElement));
  const next = rows[at + (event.key === 'ArrowDown' ? 1 : -1)] ?? (at < 0 ? rows[0] : undefined);
  if (next) {
    event.preventDefault();
    next.focus();
  }
}
