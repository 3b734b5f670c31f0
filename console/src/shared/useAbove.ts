import { useEffect, useState, type RefObject } from 'react';

/** How far below the page's top an element begins, in pixels, also after what stands above it has grown. */
export function useAbove(element: RefObject<HTMLElement | null>): number {
  const [above, setAbove] = useState(0);
  useEffect(() => {
    const look = () => setAbove((element.current?.getBoundingClientRect().top ?? 0) + window.scrollY);
    const observer = new ResizeObserver(look);
    observer.observe(document.body);
    return () => observer.disconnect();
  }, [element]);
  return above;
}
