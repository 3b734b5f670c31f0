import { createBrowserRouter, Navigate } from 'react-router';

import { Frame } from './frame/Frame';
import { Broken, NotThere } from './frame/NotThere';

/** Every view has its address; pages are loaded when they are first opened. */
export const router = createBrowserRouter([
  {
    element: <Frame />,
    errorElement: <Broken />,
    HydrateFallback: () => null,
    children: [
      { index: true, element: <Navigate to="/flow" replace /> },
      { path: 'flow', lazy: async () => ({ Component: (await import('./features/flow/FlowPage')).FlowPage }) },
      {
        path: 'connectors',
        lazy: async () => ({ Component: (await import('./features/connectors/ConnectorsPage')).ConnectorsPage }),
      },
      {
        path: 'connectors/new',
        lazy: async () => ({ Component: (await import('./features/builder/BuilderPage')).BuilderPage }),
      },
      {
        path: 'connectors/:id/edit',
        lazy: async () => ({ Component: (await import('./features/builder/BuilderPage')).EditPage }),
      },
      {
        path: 'connectors/:id/:part?',
        lazy: async () => ({ Component: (await import('./features/connectors/ConnectorPage')).ConnectorPage }),
      },
      { path: 'topics', lazy: async () => ({ Component: (await import('./features/topics/TopicsPage')).TopicsPage }) },
      {
        path: 'topics/:name/:part?',
        lazy: async () => ({ Component: (await import('./features/topics/TopicPage')).TopicPage }),
      },
      {
        path: 'schemas',
        lazy: async () => ({ Component: (await import('./features/schemas/SchemasPage')).SchemasPage }),
      },
      {
        path: 'schemas/new',
        lazy: async () => ({ Component: (await import('./features/schemas/NewSchemaPage')).NewSchemaPage }),
      },
      {
        path: 'schemas/:name/:part?',
        lazy: async () => ({ Component: (await import('./features/schemas/SchemaPage')).SchemaPage }),
      },
      {
        path: 'functions',
        lazy: async () => ({ Component: (await import('./features/functions/FunctionsPage')).FunctionsPage }),
      },
      {
        path: 'functions/new',
        lazy: async () => ({ Component: (await import('./features/functions/FunctionPage')).NewFunctionPage }),
      },
      {
        path: 'functions/:name',
        lazy: async () => ({ Component: (await import('./features/functions/FunctionPage')).FunctionPage }),
      },
      {
        path: 'readers',
        lazy: async () => ({ Component: (await import('./features/readers/ReadersPage')).ReadersPage }),
      },
      {
        path: 'quarantine',
        lazy: async () => ({ Component: (await import('./features/quarantine/QuarantinePage')).QuarantinePage }),
      },
      {
        path: 'quarantine/:connector/:cause',
        lazy: async () => ({ Component: (await import('./features/quarantine/CausePage')).CausePage }),
      },
      {
        path: 'runners',
        lazy: async () => ({ Component: (await import('./features/runners/RunnersPage')).RunnersPage }),
      },
      {
        path: 'operations',
        lazy: async () => ({ Component: (await import('./features/operations/OperationsPage')).OperationsPage }),
      },
      {
        path: 'manifests',
        lazy: async () => ({ Component: (await import('./features/manifests/ManifestsPage')).ManifestsPage }),
      },
      {
        path: 'connections',
        lazy: async () => ({ Component: (await import('./features/connections/ConnectionsPage')).ConnectionsPage }),
      },
      { path: '*', element: <NotThere /> },
    ],
  },
]);
