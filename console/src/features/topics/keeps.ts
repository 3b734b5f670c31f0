import type { Schemas } from '../../api/client';
import { bytes, span } from '../../shared/format';

/** What a topic keeps, in words. */
export function keeps(settings: Schemas['TopicSettings']): string {
  const parts = [settings.keep === 'latest' ? 'the latest of each key' : 'every record'];
  if (settings.forget_after_ms != null) parts.push(`for ${span(settings.forget_after_ms)}`);
  if (settings.most_bytes != null) parts.push(`up to ${bytes(settings.most_bytes)}`);
  if (settings.hot_span_ms != null) parts.push(`hot for ${span(settings.hot_span_ms)}`);
  return parts.join(', ');
}
