import { json } from '@codemirror/lang-json';
import { StreamLanguage } from '@codemirror/language';
import { protobuf } from '@codemirror/legacy-modes/mode/protobuf';
import { linter } from '@codemirror/lint';
import { EditorState } from '@codemirror/state';
import { EditorView } from '@codemirror/view';
import CodeMirror from '@uiw/react-codemirror';
import { useMemo } from 'react';

import type { Schemas } from '../api/client';
import { colours, look } from './editorLook';

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
