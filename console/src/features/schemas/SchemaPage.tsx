import { Tabs } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';

import { problemOf } from '../../api/client';
import { count } from '../../shared/format';
import { useKeptCurrent } from '../../shared/liveConnectors';
import { Figure, Heading } from '../../shared/Page';
import { ProblemNote } from '../../shared/ProblemNote';
import { SchemaText } from '../../shared/SchemaText';
import { When } from '../../shared/When';
import { About } from './About';
import { Compare } from './Compare';
import { Draft } from './Draft';
import { schemaQuery, type Schema, type SchemaVersion } from './schemasQueries';
import { languageName, pretty, ruleMeaning } from './words';

const PARTS = [
  ['text', 'Text'],
  ['difference', 'Difference'],
  ['draft', 'Next version'],
  ['about', 'Rule and owner'],
] as const;

/** One schema: its versions as a timeline, their texts and differences, the next one while it is written, who uses it. */
export function SchemaPage() {
  const { name = '', part = 'text' } = useParams();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const query = useQuery({ ...schemaQuery(name), ...useKeptCurrent('schema') });
  const schema = query.data;
  const to = (next: string) => `/schemas/${encodeURIComponent(name)}${next === 'text' ? '' : `/${next}`}`;
  const shown = schema?.versions.find((v) => String(v.version) === search.get('version')) ?? schema?.versions[0];
  return (
    <div className="page">
      <Heading title={name} says={schema && <Says schema={schema} />} />
      <ProblemNote problem={schema ? null : problemOf(query.error)} />
      {schema && (
        <>
          <div className="figures">
            <Figure label="Version" value={count(schema.versions[0]?.version ?? 0)} />
            <Figure label="Topics" value={count(schema.uses.topics.length)} />
            <Figure label="Connectors that write" value={count(schema.uses.written_by.length)} />
            <Figure
              label="Connectors and readers that read"
              value={count(schema.uses.read_by.length + schema.uses.readers.length)}
            />
          </div>
          <Tabs value={part} onChange={(next) => void navigate(to(next ?? 'text'))} keepMounted={false}>
            <Tabs.List mb="md">
              {PARTS.map(([value, label]) => (
                <Tabs.Tab key={value} value={value} disabled={value === 'draft' && schema.retired_at != null}>
                  {label}
                </Tabs.Tab>
              ))}
            </Tabs.List>
            <Tabs.Panel value="text">
              <div className="timeline">
                <Timeline schema={schema} shown={shown} />
                {shown && <Version schema={schema} version={shown} />}
              </div>
            </Tabs.Panel>
            <Tabs.Panel value="difference">
              <Compare schema={schema} />
            </Tabs.Panel>
            <Tabs.Panel value="draft">
              <Draft key={schema.versions[0]?.version} schema={schema} />
            </Tabs.Panel>
            <Tabs.Panel value="about">
              <About key={schema.revision} schema={schema} />
            </Tabs.Panel>
          </Tabs>
        </>
      )}
    </div>
  );
}

function Says({ schema }: { schema: Schema }) {
  const { description, owner, labels } = schema;
  const { written_by, read_by, readers } = schema.uses;
  return (
    <>
      {languageName(schema.language)}
      {schema.retired_at && ', retired'}
      {description && `. ${description.replace(/\.$/, '')}`}
      {owner && `. Kept by ${owner}`}
      {labels.length > 0 && `. Labels: ${labels.join(', ')}`}. {ruleMeaning(schema.rule)}
      {written_by.length > 0 && ` Written by ${written_by.join(', ')}.`}
      {read_by.length + readers.length > 0 && ` Read by ${[...read_by, ...readers].join(', ')}.`}
    </>
  );
}

/** All versions, the newest first. */
function Timeline({ schema, shown }: { schema: Schema; shown: SchemaVersion | undefined }) {
  return (
    <nav className="sheet" aria-label="Versions">
      <h2>Versions</h2>
      <ol className="moments" reversed start={schema.versions[0]?.version}>
        {schema.versions.map((version) => (
          <li key={version.version} data-shown={version === shown || undefined}>
            <Link
              className="name"
              to={`/schemas/${encodeURIComponent(schema.name)}?version=${version.version}`}
              replace
              aria-current={version === shown ? 'true' : undefined}
            >
              Version {version.version}
            </Link>
            <div className="quiet">
              <When time={version.created_at} />
              {version.author && <> by {version.author}</>}
            </div>
            {version.why && <div>{version.why}</div>}
          </li>
        ))}
      </ol>
    </nav>
  );
}

function Version({ schema, version }: { schema: Schema; version: SchemaVersion }) {
  return (
    <section className="sheet" aria-label={`Text of version ${version.version}`}>
      <h2>Version {version.version}</h2>
      <SchemaText
        label={`Text of version ${version.version}`}
        language={schema.language}
        text={pretty(schema, version.text)}
      />
      <p className="facts quiet">
        fingerprint <span className="mono">{version.fingerprint}</span> · SHA-256{' '}
        <span className="mono">{version.sha256}</span>
        {version.references.length > 0 && (
          <>
            {' '}
            · names types of{' '}
            {version.references.map((r, n) => (
              <span key={r.name}>
                {n > 0 && ', '}
                <Link to={`/schemas/${encodeURIComponent(r.name)}?version=${r.version}`}>
                  {r.name} {r.version}
                </Link>
              </span>
            ))}
          </>
        )}
      </p>
    </section>
  );
}
