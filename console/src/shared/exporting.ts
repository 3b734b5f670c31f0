/** Where an installation, a kind of its things, or some of them by name are as text. */
export function exportUrl(kind?: string, names?: string[]): string {
  if (!kind) return '/api/v1/manifests';
  const those = names ? `&names=${names.map(encodeURIComponent).join(',')}` : '';
  return `/api/v1/manifests?kind=${kind}${those}`;
}
