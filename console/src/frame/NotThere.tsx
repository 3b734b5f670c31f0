import { Link, useRouteError } from 'react-router';

import { Heading } from '../shared/Page';

export function NotThere() {
  return (
    <div className="page">
      <Heading title="There is no such page" says="The address is misspelled, or what it led to was deleted." />
      <Link to="/connectors">All connectors</Link> · <Link to="/topics">All topics</Link> ·{' '}
      <Link to="/connections">All connections</Link>
    </div>
  );
}

/** A page that failed: says what, and how to go on. */
export function Broken() {
  const error = useRouteError();
  return (
    <div className="page">
      <Heading
        title="This page failed"
        says="Nothing that runs is touched by it. Reload; if it stays, report it with the text below."
      />
      <pre className="mono">{error instanceof Error ? error.message : String(error)}</pre>
      <a href="/">Reload</a>
    </div>
  );
}
