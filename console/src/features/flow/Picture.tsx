import { useMemo } from 'react';
import { useNavigate } from 'react-router';

import { rate, span } from '../../shared/format';
import type { Connector } from '../../shared/liveConnectors';
import { toneOf } from '../../shared/StateMark';
import { layOut, NODE_HEIGHT, related, WIDTH, type Node, type Strand } from './layout';

interface Props {
  connectors: Connector[];
  picked: string | null;
  onPick: (id: string | null) => void;
}

const HEADS: [string, number][] = [
  ['Systems', 8],
  ['Sources', 226],
  ['Topics', 484],
  ['Sinks', 744],
  ['Systems', 1002],
];

export function Picture({ connectors, picked, onPick }: Props) {
  const layout = useMemo(() => layOut(connectors), [connectors]);
  const navigate = useNavigate();
  const lit = picked !== null && layout.nodes.some((n) => n.id === picked) ? related(layout, picked) : null;
  const byId = new Map(layout.nodes.map((n) => [n.id, n]));
  const open = (node: Node) => {
    if (node.connector) void navigate(`/connectors/${node.connector.id}`);
    else if (node.column === 'topic') void navigate(`/topics/${encodeURIComponent(node.label)}`);
    else void navigate('/connections');
  };
  return (
    <svg
      className="flow"
      viewBox={`0 0 ${WIDTH} ${layout.height}`}
      role="group"
      aria-label="Picture of the flow"
      onClick={() => onPick(null)}
    >
      {HEADS.map(([label, x]) => (
        <text key={x} x={x} y={24} className="caption">
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
        <text x={484} y={layout.height - 2} className="caption">
          and {layout.hidden} more topics
        </text>
      )}
    </svg>
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
      data-tone={toneOf(strand.connector.state)}
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

/** A click picks, a second one or Enter opens. */
function NodeBox({ node, dim, picked, onPick, onOpen }: NodeProps) {
  const says = node.connector ? connectorSays(node.connector) : null;
  return (
    <g
      className={dim ? 'dim' : undefined}
      tabIndex={0}
      role="button"
      aria-pressed={picked}
      aria-label={`${node.column === 'topic' ? 'Topic ' : node.connector ? 'Connector ' : 'System '}${node.label}${says ? `, ${says}` : ''}`}
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
        data-column={node.column}
        data-tone={node.connector ? toneOf(node.connector.state) : undefined}
        x={node.x}
        y={node.y}
        width={node.width}
        height={NODE_HEIGHT}
        rx={node.connector ? NODE_HEIGHT / 2 : 2}
      />
      <text x={node.x + 12} y={node.y + (says ? 15 : 21)}>
        {short(node.label, node.width)}
      </text>
      {says && (
        <text className="caption" x={node.x + 12} y={node.y + 28}>
          {says}
        </text>
      )}
    </g>
  );
}

function connectorSays(connector: Connector): string {
  if (toneOf(connector.state) !== 'well') return connector.state;
  const lag = connector.lag_ms != null && connector.lag_ms > 0 ? `, ${span(connector.lag_ms)} behind` : '';
  return `${connector.state} ${rate(connector.rate_per_s)}/s${lag}`;
}

function short(label: string, width: number): string {
  const most = Math.floor((width - 20) / 7);
  return label.length <= most ? label : `${label.slice(0, most - 1)}…`;
}
