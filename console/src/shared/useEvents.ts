import { useEffect, useEffectEvent } from 'react';

/** Listens to server-sent events of one name while mounted; a lost stream is taken up again by the browser. */
export function useEvents<T>(
  url: string | null,
  name: string,
  onEvent: (data: T) => void,
  onOpen?: (open: boolean) => void,
): void {
  const handle = useEffectEvent((data: T) => onEvent(data));
  const tell = useEffectEvent((open: boolean) => onOpen?.(open));
  useEffect(() => {
    if (url === null) return;
    let source: EventSource;
    let again: ReturnType<typeof setTimeout> | undefined;
    const listen = () => {
      source = new EventSource(url);
      source.addEventListener(name, (event) => handle(JSON.parse((event as MessageEvent<string>).data) as T));
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
  }, [url, name]);
}
