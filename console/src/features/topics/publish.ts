/** The few lines that publish to a topic, for several languages, with what each brings along. */

export type Language = 'shell' | 'python' | 'javascript' | 'go';
export type Form = 'json' | 'cloudevents';

export const LANGUAGES: { value: Language; label: string }[] = [
  { value: 'shell', label: 'Shell' },
  { value: 'python', label: 'Python' },
  { value: 'javascript', label: 'JavaScript' },
  { value: 'go', label: 'Go' },
];

/** The name by which the application is seen among those that append. */
const NAME = 'my-application';

/** What is published: to which topic of which server. */
export interface Event {
  origin: string;
  topic: string;
  key: string | null;
  value: unknown;
}

interface Request {
  url: string;
  headers: [string, string][];
  body: unknown;
}

function request({ origin, topic, key, value }: Event, form: Form): Request {
  const url = `${origin}/api/v1/topics/${encodeURIComponent(topic)}/records`;
  const plain: [string, string][] = [
    ['content-type', 'application/json'],
    ['producer-name', NAME],
  ];
  if (form === 'json') return { url, headers: plain, body: key === null ? { value } : { key, value } };
  const attributes: [string, string][] = [
    ['ce-specversion', '1.0'],
    ['ce-id', '1'],
    ['ce-source', '/my/application'],
    ['ce-type', topic],
  ];
  // the binding has what is not plain in headers percent-encoded
  if (key !== null) attributes.push(['ce-partitionkey', encodeURIComponent(key)]);
  return { url, headers: [...plain, ...attributes], body: value };
}

/** A text between single quotes of a shell. */
const quoted = (text: string) => `'${text.replaceAll("'", `'\\''`)}'`;

/** A value as Python writes it. */
export function python(value: unknown): string {
  if (value === null || value === undefined) return 'None';
  if (value === true) return 'True';
  if (value === false) return 'False';
  if (Array.isArray(value)) return `[${value.map(python).join(', ')}]`;
  if (typeof value === 'object') {
    const members = Object.entries(value).map(([name, inner]) => `${JSON.stringify(name)}: ${python(inner)}`);
    return `{${members.join(', ')}}`;
  }
  return JSON.stringify(value);
}

function shell({ url, headers, body }: Request): string {
  const lines = [
    `curl -sS ${quoted(url)}`,
    ...headers.map(([name, value]) => `  -H ${quoted(`${name}: ${value}`)}`),
    `  -d ${quoted(JSON.stringify(body))}`,
  ];
  return lines.join(' \\\n');
}

function pythonLines({ url, headers, body }: Request): string {
  return `import json
from urllib.request import Request, urlopen

event = ${python(body)}
headers = ${python(Object.fromEntries(headers))}
request = Request(${JSON.stringify(url)}, json.dumps(event).encode(), headers)
with urlopen(request) as answer:
    print(json.load(answer))`;
}

function go({ url, headers, body }: Request): string {
  const text = JSON.stringify(body);
  const literal = text.includes('`') ? JSON.stringify(text) : `\`${text}\``;
  const set = headers.map(([name, value]) => `\trequest.Header.Set(${JSON.stringify(name)}, ${JSON.stringify(value)})`);
  return `package main

import (
	"io"
	"net/http"
	"os"
	"strings"
)

func main() {
	event := strings.NewReader(${literal})
	request, err := http.NewRequest("POST", ${JSON.stringify(url)}, event)
	if err != nil {
		panic(err)
	}
${set.join('\n')}
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		panic(err)
	}
	defer answer.Body.Close()
	io.Copy(os.Stdout, answer.Body)
}`;
}

function fetched({ url, headers, body }: Request): string {
  return `const answer = await fetch(${JSON.stringify(url)}, {
  method: 'POST',
  headers: ${JSON.stringify(Object.fromEntries(headers))},
  body: JSON.stringify(${JSON.stringify(body)}),
});
console.log(answer.status, await answer.json());`;
}

/** With the library that CloudEvents has for the language. */
function emitted(event: Event, { url, body }: Request): string {
  const key = event.key === null ? '' : `\n    partitionkey: ${JSON.stringify(event.key)},`;
  return `// npm install cloudevents
import { CloudEvent, emitterFor, httpTransport } from 'cloudevents';

const emit = emitterFor(httpTransport(${JSON.stringify(`${url}?producer=${NAME}`)}));
await emit(
  new CloudEvent({
    source: '/my/application',
    type: ${JSON.stringify(event.topic)},${key}
    data: ${JSON.stringify(body)},
  }),
);`;
}

/** The lines that publish an event. */
export function lines(language: Language, form: Form, event: Event): string {
  const asked = request(event, form);
  switch (language) {
    case 'shell':
      return shell(asked);
    case 'python':
      return pythonLines(asked);
    case 'go':
      return go(asked);
    case 'javascript':
      return form === 'cloudevents' ? emitted(event, asked) : fetched(asked);
  }
}
