import { useElementSize } from '@mantine/hooks';
import { useMemo } from 'react';
import { useNavigate } from 'react-router';

import { rate, span } from '../../shared/format';
import type { Connector } from '../../shared/liveConnectors';
import type { Producer } from '../../shared/producersQuery';
import { toneOf } from '../../shared/StateMark';
import { columnsFor, layOut, lined, NODE_HEIGHT, related, short, type Node, type Strand } from './layout';

interface Props {
  connectors: Connector[];
  producers: Producer[];
  picked: string | null;
  onPick: (id: string | null) => void;
}

const HEADS: [Node['column'], string][] = [
  ['from', 'Systems'],
  ['source', 'Sources'],
  ['topic', 'Topics'],
  ['between', 'Shaped by'],
  ['shaped', 'Shaped topics'],
  ['sink', 'Sinks'],
  ['to', 'Systems'],
];

export function Picture({ connectors, producers, picked, onPick }: Props) {
  const { ref, width: measured } = useElementSize<HTMLDivElement>();
  const width = Math.max(560, measured);
  const layout = useMemo(() => layOut(connectors, width, producers), [connectors, width, producers]);
  const longer = layout.nodes.some((n) => n.column === 'between');
  const columns = columnsFor(width, longer);
  const navigate = useNavigate();
  const lit = picked !== null && layout.nodes.some((n) => n.id === picked) ? related(layout, picked) : null;
  const byId = new Map(layout.nodes.map((n) => [n.id, n]));
  const open = (node: Node) => {
    if (node.connector) void navigate(`/connectors/${node.connector.id}`);
    else if (node.producer) void navigate(`/topics/${encodeURIComponent(node.producer.topics[0] ?? '')}/producers`);
    else if (node.column === 'topic' || node.column === 'shaped')
      void navigate(`/topics/${encodeURIComponent(node.label)}`);
    else void navigate('/connections');
  };
  return (
    <div ref={ref} style={{ overflowX: 'auto' }}>
      <svg
        className="flow"
        width={width}
        height={layout.height}
        role="group"
        aria-label="Picture of the flow"
        onClick={() => onPick(null)}
      >
        {HEADS.filter(([column]) => longer || (column !== 'between' && column !== 'shaped')).map(([column, label]) => (
          <text key={column} x={columns[column].x} y={28} className="caption">
            {label}
          </text>
        ))}
        {layout.strands.map((strand) => (
          <StrandLine
            key={`${strand.from} ${strand.to}`}
            strand={strand}
            byId={byId}
            dim={lit !== null && !(lit.has(strand.from) && lit.has(strand.to))}
          />
        ))}
        {layout.nodes.map((node) => (
          <NodeBox
            key={node.id}
            node={node}
            dim={lit !== null && !lit.has(node.id)}
            picked={picked === node.id}
            onPick={() => onPick(picked === node.id ? null : node.id)}
            onOpen={() => open(node)}
          />
        ))}
        {layout.hidden > 0 && (
          <text x={columns.topic.x} y={layout.height - 2} className="caption">
            and {layout.hidden} more topics
          </text>
        )}
      </svg>
    </div>
  );
}

function StrandLine({ strand, byId, dim }: { strand: Strand; byId: Map<string, Node>; dim: boolean }) {
  const from = byId.get(strand.from);
  const to = byId.get(strand.to);
  if (!from || !to) return null;
  const [x1, y1, x2, y2] = [from.x + from.width, from.y + NODE_HEIGHT / 2, to.x, to.y + NODE_HEIGHT / 2];
  const bend = (x2 - x1) / 2;
  return (
    <path
      className={dim ? 'strand dim' : 'strand'}
      data-tone={strand.tone}
      strokeWidth={strand.width}
      d={`M${x1} ${y1}C${x1 + bend} ${y1} ${x2 - bend} ${y2} ${x2} ${y2}`}
    />
  );
}

interface NodeProps {
  node: Node;
  dim: boolean;
  picked: boolean;
  onPick: () => void;
  onOpen: () => void;
}

/** Height of a line of text in a node. */
const LINE = 15;

/** A click picks, a second one or Enter opens. */
function NodeBox({ node, dim, picked, onPick, onOpen }: NodeProps) {
  const lines = node.connector
    ? connectorLines(node.connector, node.width)
    : node.producer
      ? ['application', `${rate(node.producer.rate)}/s`]
      : [];
  const says = lines.join(', ');
  const name = lined(node.label, node.width);
  // all lines stand around the middle
  const top = node.y + NODE_HEIGHT / 2 - ((name.length + lines.length) * LINE) / 2 + 12;
  return (
    <g
      className={dim ? 'dim' : undefined}
      tabIndex={0}
      role="button"
      aria-pressed={picked}
      aria-label={`${node.id.startsWith('topic ') ? 'Topic ' : node.connector ? 'Connector ' : node.producer ? 'Application ' : 'System '}${node.label}${says ? `, ${says}` : ''}`}
      style={{ cursor: 'pointer' }}
      onClick={(event) => {
        event.stopPropagation();
        if (picked) onOpen();
        else onPick();
      }}
      onKeyDown={(event) => {
        if (event.key === 'Enter') onOpen();
        if (event.key === ' ') {
          event.preventDefault();
          onPick();
        }
      }}
    >
      <title>{`${node.label}${says ? `: ${says}` : ''}. Click again or press Enter to open.`}</title>
      <rect
        className={picked ? 'node picked' : 'node'}
        data-column={node.producer ? 'application' : node.column}
        data-tone={node.connector ? toneOf(node.connector.state) : undefined}
        x={node.x}
        y={node.y}
        width={node.width}
        height={NODE_HEIGHT}
        rx={node.connector ? 14 : 2}
      />
      {name.map((line, n) => (
        <text key={n} x={node.x + 12} y={top + n * LINE}>
          {line}
        </text>
      ))}
      {lines.map((line, n) => (
        <text key={n} className="caption" x={node.x + 12} y={top + (name.length + n) * LINE + 1}>
          {short(line, node.width, 5.7)}
        </text>
      ))}
    </g>
  );
}

function connectorLines(connector: Connector, width: number): string[] {
  if (toneOf(connector.state) !== 'well') return [connector.state];
  const whole = `${connector.state} ${rate(connector.rate_per_s)}/s`;
  // where there is no room for both, that it moves says that it is well
  const moves = short(whole, width, 5.7) === whole ? whole : `${rate(connector.rate_per_s)}/s`;
  if (connector.lag_ms == null) return [moves];
  return [moves, connector.lag_ms > 0 ? `${span(connector.lag_ms)} behind` : 'caught up'];
}
