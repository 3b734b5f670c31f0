/** How text editors look: our own colours, in light and dark. */
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { EditorView } from '@codemirror/view';
import { tags } from '@lezer/highlight';

export const look = EditorView.theme({
  '&': { backgroundColor: 'transparent', color: 'var(--ink)', fontSize: '0.84rem' },
  '&.cm-focused': { outline: '2px solid var(--well)', outlineOffset: '-2px' },
  '.cm-content, .cm-gutters': { fontFamily: 'var(--mantine-font-family-monospace)', lineHeight: '1.55' },
  '.cm-content': { caretColor: 'var(--ink)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '.cm-gutters': { backgroundColor: 'transparent', color: 'var(--quiet)', borderRight: '1px solid var(--hairline)' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'color-mix(in srgb, var(--rail) 60%, transparent)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'var(--mark) !important' },
  '.cm-lintRange-error': { backgroundImage: 'none', textDecoration: 'underline wavy var(--warn)' },
  '.cm-tooltip': { background: 'var(--sheet)', border: '1px solid var(--hairline)', color: 'var(--ink)' },
  '.cm-diagnostic-error': { borderLeft: '4px solid var(--warn)' },
});

export const colours = syntaxHighlighting(
  HighlightStyle.define([
    { tag: [tags.propertyName, tags.keyword, tags.typeName], color: 'var(--well)', fontWeight: '560' },
    { tag: [tags.string, tags.special(tags.string)], color: 'var(--ink)' },
    { tag: [tags.number, tags.bool, tags.null, tags.atom], color: 'var(--ink)', fontWeight: '640' },
    { tag: tags.comment, color: 'var(--quiet)', fontStyle: 'italic' },
    { tag: [tags.punctuation, tags.bracket, tags.separator], color: 'var(--quiet)' },
  ]),
);
