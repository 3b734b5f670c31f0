/** Bytes as people look at them. */

export function fromBase64(text: string): Uint8Array {
  return Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
}

/** The text that bytes are, or null if they are none. */
export function asText(bytes: Uint8Array): string | null {
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(bytes);
  } catch {
    return null;
  }
}

/** Sixteen bytes a line: where, in hexadecimal digits, and as characters. */
export function hexLines(bytes: Uint8Array, most = 4096): string {
  const lines: string[] = [];
  for (let at = 0; at < Math.min(bytes.length, most); at += 16) {
    const some = [...bytes.slice(at, at + 16)];
    const digits = some.map((b) => b.toString(16).padStart(2, '0'));
    const halves = [digits.slice(0, 8).join(' '), digits.slice(8).join(' ')].join('  ');
    const characters = some.map((b) => (b >= 32 && b < 127 ? String.fromCharCode(b) : '·')).join('');
    lines.push(`${at.toString(16).padStart(6, '0')}  ${halves.padEnd(48)}  ${characters}`);
  }
  if (bytes.length > most) lines.push(`… ${bytes.length - most} bytes more`);
  return lines.join('\n');
}
