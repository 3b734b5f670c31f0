/** Settings of a session as lines of `name=value`. */
export function settingsText(settings: Record<string, string> = {}): string {
  return Object.entries(settings)
    .map(([name, value]) => `${name}=${value}`)
    .join('\n');
}

/** The settings that lines give; a line without `=` is a name without a value, which the server refuses by its name. */
export function settingsOf(text: string): Record<string, string> {
  const lines = text.split('\n').filter((line) => line.trim() !== '');
  return Object.fromEntries(
    lines.map((line) => {
      const [name = '', ...rest] = line.split('=');
      return [name.trim(), rest.join('=').trim()];
    }),
  );
}
