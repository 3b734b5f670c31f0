/** The rail's places, in the order of the work. A group appears when it holds something. */
interface Place {
  to: string;
  label: string;
  says: string;
}

export const GROUPS: { name: string; places: Place[] }[] = [
  { name: 'Watch', places: [{ to: '/flow', label: 'Flow', says: 'What moves between which systems' }] },
  {
    name: 'Data',
    places: [
      { to: '/topics', label: 'Topics', says: 'Logs of records' },
      { to: '/schemas', label: 'Schemas', says: 'The shape of keys and values, and what a change breaks' },
      { to: '/functions', label: 'Functions', says: 'Expressions under a name, for all shapes' },
      { to: '/readers', label: 'Readers', says: 'Who reads topics under a name, and how far behind' },
    ],
  },
  {
    name: 'Move',
    places: [
      { to: '/connectors', label: 'Connectors', says: 'Sources and sinks, their state and lag' },
      { to: '/connections', label: 'Connections', says: 'Ways to reach systems' },
      { to: '/quarantine', label: 'Quarantine', says: 'Records that could not be handled, by cause' },
    ],
  },
  {
    name: 'Run',
    places: [
      { to: '/runners', label: 'Runners', says: 'Who carries which lanes, and how much room is left' },
      { to: '/operations', label: 'Operations', says: 'What is being done for long, and how it ended' },
      { to: '/manifests', label: 'Manifests', says: 'The installation as text: export it, apply it' },
    ],
  },
];
