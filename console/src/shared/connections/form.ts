/** The form of a connection, as its kind describes it. */
import type { Connection, ConnectionRequest, Kind, Setting } from './connectionsQueries';
import { settingsOf, settingsText } from './settings';

/** What stands in the fields: text, whatever a setting takes. Nothing is a kept secret, or what was not given. */
export type Fields = Record<string, string | undefined>;

/** What a form begins with. */
export function fieldsOf(kind: Kind, before: Connection | undefined): Fields {
  const known = before as Record<string, unknown> | undefined;
  return Object.fromEntries(
    kind.settings.map((setting) => {
      const value = known?.[setting.name];
      if (setting.takes.is === 'pairs')
        return [setting.name, settingsText(value as Record<string, string> | undefined)];
      if (value !== undefined && value !== null) return [setting.name, String(value)];
      return [setting.name, before ? undefined : (setting.usual ?? undefined)];
    }),
  );
}

/** What is sent. A field that is of no use now is not, nor one that was left empty, but for one that is needed: the server says what is wrong with it. */
export function requestOf(name: string, kind: Kind, fields: Fields): ConnectionRequest {
  const ofUse = kind.settings.filter((setting) => isOfUse(setting, fields));
  const given = ofUse.flatMap((setting): [string, unknown][] => {
    const text = fields[setting.name];
    if (setting.takes.is === 'pairs') return [[setting.name, settingsOf(text ?? '')]];
    if (setting.takes.is === 'whole' && (text || setting.needed)) return [[setting.name, Number(text) || 0]];
    if (text === undefined || text === '') return setting.needed ? [[setting.name, '']] : [];
    return [[setting.name, text]];
  });
  return { name, kind: kind.kind, ...Object.fromEntries(given) } as unknown as ConnectionRequest;
}

/** Settings in lines: some stand beside what is before them. */
export function lines(settings: Setting[]): Setting[][] {
  const out: Setting[][] = [];
  for (const setting of settings) {
    const line = out[out.length - 1];
    if (line && setting.beside) line.push(setting);
    else out.push([setting]);
  }
  return out;
}

/** Settings that few need, under their headings, in order. */
export function headed(settings: Setting[]): [string, Setting[]][] {
  const out = new Map<string, Setting[]>();
  for (const setting of settings) {
    if (!setting.under) continue;
    out.set(setting.under, [...(out.get(setting.under) ?? []), setting]);
  }
  return [...out];
}

/** Whether a setting is of use with what stands in the other fields. */
export function isOfUse(setting: Setting, fields: Fields): boolean {
  if (!setting.only_if) return true;
  const other = fields[setting.only_if.setting] ?? '';
  const is = setting.only_if.is ?? [];
  return is.length > 0 ? is.includes(other) : other !== '';
}
