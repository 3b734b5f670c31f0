import { json } from '@codemirror/lang-json';
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from '@codemirror/language';
import { protobuf } from '@codemirror/legacy-modes/mode/protobuf';
import { linter } from '@codemirror/lint';
import { EditorState } from '@codemirror/state';
import { EditorView } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import CodeMirror from '@uiw/react-codemirror';
import { useMemo } from 'react';

import type { Schemas } from '../api/client';

const look = EditorView.theme({
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

const colours = syntaxHighlighting(
  HighlightStyle.define([
    { tag: [tags.propertyName, tags.keyword, tags.typeName], color: 'var(--well)', fontWeight: '560' },
    { tag: [tags.string, tags.special(tags.string)], color: 'var(--ink)' },
    { tag: [tags.number, tags.bool, tags.null, tags.atom], color: 'var(--ink)', fontWeight: '640' },
    { tag: tags.comment, color: 'var(--quiet)', fontStyle: 'italic' },
    { tag: [tags.punctuation, tags.bracket, tags.separator], color: 'var(--quiet)' },
  ]),
);

interface Props {
  label: string;
  language: Schemas['Language'];
  text: string;
  /** What is wrong with it, shown at its line. */
  fault?: Schemas['SchemaFault'] | null;
  /** Without it, the text can be read only. */
  onType?: (text: string) => void;
}

/** A schema's text with its words told apart, and a fault at its line. */
export function SchemaText({ label, language, text, fault = null, onType }: Props) {
  const extensions = useMemo(() => {
    const words = language === 'protobuf' ? StreamLanguage.define(protobuf) : json();
    const faults = linter((view) => {
      if (!fault) return [];
      const line = view.state.doc.line(Math.min(fault.line, view.state.doc.lines));
      const from = Math.min(line.from + fault.column - 1, line.to);
      return [{ from, to: Math.max(from, line.to), severity: 'error', message: fault.finding }];
    });
    const named = EditorView.contentAttributes.of({ 'aria-label': label, spellcheck: 'false' });
    const kept = onType ? [] : [EditorState.readOnly.of(true)];
    return [look, colours, words, faults, named, EditorView.lineWrapping, ...kept];
  }, [label, language, fault, onType]);
  return (
    <div className="schematext">
      <CodeMirror
        value={text}
        theme="none"
        basicSetup={{
          foldGutter: false,
          autocompletion: false,
          highlightActiveLine: onType !== undefined,
          highlightActiveLineGutter: onType !== undefined,
          searchKeymap: false,
          tabSize: 2,
        }}
        indentWithTab={false}
        extensions={extensions}
        onChange={onType}
      />
      {fault && (
        <p className="fault" role="alert">
          <strong>
            Line {fault.line}, column {fault.column}:
          </strong>{' '}
          {fault.finding}
        </p>
      )}
    </div>
  );
}
