import { useEffect, useEffectEvent, useRef } from 'react';

import { parseExact } from './exact';

/** What to do with the events of each name; their data is JSON of the type the API's document gives. */
// eslint-disable-next-line @typescript-eslint/no-explicit-any -- each handler names its own type
export type Handlers = Record<string, (data: any) => void>;

/**
 * Listens to a stream of server-sent events while mounted; a lost stream is taken up again. One whose events have ids goes on after the
 * last of them, also with another address.
 */
export function useEvents(url: string | null, handlers: Handlers, onOpen?: (open: boolean) => void): void {
  const names = Object.keys(handlers).join(' ');
  const last = useRef('');
  const handle = useEffectEvent((name: string, event: Event) => {
    const { data, lastEventId } = event as MessageEvent<string>;
    last.current = lastEventId;
    handlers[name]?.(parseExact(data));
  });
  const tell = useEffectEvent((open: boolean) => onOpen?.(open));
  useEffect(() => {
    if (url === null) return;
    let source: EventSource;
    let again: ReturnType<typeof setTimeout> | undefined;
    const listen = () => {
      const from = last.current === '' ? '' : `&cursor=${encodeURIComponent(last.current)}`;
      source = new EventSource(url + from);
      for (const name of names.split(' ')) source.addEventListener(name, (event) => handle(name, event));
      source.addEventListener('open', () => tell(true));
      source.addEventListener('error', () => {
        tell(false);
        // a refused stream is closed for good by the browser
        if (source.readyState === EventSource.CLOSED) again = setTimeout(listen, 2_000);
      });
    };
    listen();
    return () => {
      clearTimeout(again);
      source.close();
    };
  }, [url, names]);
}
