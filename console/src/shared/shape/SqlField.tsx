import { autocompletion, type Completion, type CompletionContext } from '@codemirror/autocomplete';
import { PostgreSQL, sql } from '@codemirror/lang-sql';
import { linter } from '@codemirror/lint';
import { EditorView, placeholder as placeholding } from '@codemirror/view';
import CodeMirror from '@uiw/react-codemirror';
import { useMemo } from 'react';

import type { Schemas } from '../../api/client';
import { colours, look } from '../editorLook';
import type { Finding } from './shape';

interface Props {
  label: string;
  text: string;
  onType: (text: string) => void;
  /** The columns that the text may name. */
  columns: readonly Schemas['ShapeColumn'][];
  functions: readonly Schemas['ShapeFunction'][];
  findings: readonly Finding[];
  placeholder?: string;
  /** Whether it is a whole statement. */
  tall?: boolean;
}

const FACTS = ['kind', 'committed_at', 'position', 'transaction', 'sequence', 'system', 'schema', 'table'];

/** SQL with its words told apart, what can be written next, and what is wrong at its character. */
export function SqlField({ label, text, onType, columns, functions, findings, placeholder, tall = false }: Props) {
  const extensions = useMemo(() => {
    const named: Completion[] = columns.map((c) => ({
      label: /^[a-z_][a-z0-9_]*$/.test(c.name) ? c.name : `"${c.name}"`,
      detail: c.type,
      type: 'property',
      boost: 2,
    }));
    const called: Completion[] = functions
      .filter((f) => /^[a-z]/.test(f.name) && !f.name.includes(' '))
      .map((f) => ({ label: f.name, detail: f.signatures[0], info: `${f.line} ${f.example} gives ${f.result}` }));
    const facts: Completion[] = FACTS.map((f) => ({ label: `origin.${f}`, detail: 'of the change', type: 'property' }));
    const complete = (context: CompletionContext) => {
      const word = context.matchBefore(/"?[\w.]*/);
      if (!word || (word.from === word.to && !context.explicit)) return null;
      return { from: word.from, options: [...named, ...called, ...facts], validFor: /^"?[\w.]*$/ };
    };
    const wrong = linter((view) =>
      findings.map((f) => {
        const end = view.state.doc.length;
        const from = Math.min(f.from ?? 0, end);
        const to = Math.max(Math.min(f.to ?? end, end), from);
        const says = f.suggestion ? `${f.message} (${f.suggestion})` : f.message;
        return {
          from: from === end && from > 0 ? from - 1 : from,
          to,
          severity: f.wrong ? 'error' : 'warning',
          message: says,
        };
      }),
    );
    const attributes = EditorView.contentAttributes.of({ 'aria-label': label, spellcheck: 'false' });
    return [
      look,
      colours,
      sql({ dialect: PostgreSQL }),
      autocompletion({ override: [complete], icons: false }),
      wrong,
      attributes,
      EditorView.lineWrapping,
      ...(placeholder ? [placeholding(placeholder)] : []),
    ];
  }, [label, columns, functions, findings, placeholder]);
  return (
    <div className="sqlfield" data-wrong={findings.some((f) => f.wrong) || undefined} data-tall={tall || undefined}>
      <CodeMirror
        value={text}
        theme="none"
        basicSetup={{
          foldGutter: false,
          lineNumbers: tall,
          highlightActiveLine: false,
          highlightActiveLineGutter: false,
          searchKeymap: false,
          tabSize: 2,
        }}
        indentWithTab={false}
        extensions={extensions}
        onChange={onType}
      />
      <Findings findings={findings} />
    </div>
  );
}

/** What is wrong, or may go wrong, in words. */
export function Findings({ findings }: { findings: readonly Finding[] }) {
  if (findings.length === 0) return null;
  return (
    <ul className="findings">
      {findings.map((f) => (
        <li key={`${f.field} ${f.message}`} data-wrong={f.wrong || undefined} role={f.wrong ? 'alert' : undefined}>
          {f.wrong ? '▲' : '△'} {f.message}
          {f.from != null && f.wrong && <span className="quiet"> (at character {f.from + 1})</span>}
          {f.suggestion && <div className="quiet">{f.suggestion}</div>}
        </li>
      ))}
    </ul>
  );
}
