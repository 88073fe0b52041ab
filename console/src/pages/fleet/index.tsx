import { useQuery } from '@tanstack/react-query';
import { Empty, Skeleton, Table } from 'antd';
import type { TableColumnsType } from 'antd';
import { Link } from 'react-router';
import type { Agent, Check, HostFacts } from '../../api/client';
import { queries } from '../../api/queries';
import { EventList } from '../../components/event-list';
import { Distance, FoundMark } from '../../components/found';
import { bits, count, failure, ms, usedShare } from '../../format';
import { Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';
import { nearness, services } from './nearness';
import { PlannedWorkSection } from './planned-work';
import { SetAsideCommits } from './set-aside';
import { StorageState } from './storage';
import { Notes } from '../../components/notes';
import { endOf } from '../../time/range';
import { useTimeScope } from '../../time/scope';

function sentence(agents: Agent[], checks: Check[]): string {
  const asked = checks.filter((check) => check.state !== 'unknown');
  const bad = asked.filter((check) => check.state === 'broken').length;
  const measuring = count(agents.length, 'agent');
  if (asked.length === 0) return `${measuring}; no check has a result yet`;
  return `${measuring}; good checks: ${asked.length - bad} of ${asked.length}`;
}

/** Agents, their host facts and the checks of services. */
export function FleetPage() {
  const agents = useQuery(queries.agents());
  const checks = useQuery(queries.checks());
  if (agents.error && !agents.data) return <ErrorAlert error={agents.error} />;
  if (!agents.data) return <Skeleton active paragraph={{ rows: 8 }} />;
  if (agents.data.length === 0) {
    return (
      <Empty description="No agent has joined. Make a code with: itinera join-code --site NAME" />
    );
  }
  const all = checks.data ?? [];
  return (
    <>
      {agents.error && <ErrorAlert error={agents.error} />}
      {checks.error && <ErrorAlert error={checks.error} />}
      <h1 className="sentence">{sentence(agents.data, all)}</h1>
      <SetAsideCommits />
      <PlannedWorkSection />
      {agents.data.map((agent) => (
        <AgentEntry
          key={agent.id}
          agent={agent}
          checks={all.filter((check) => check.agent === agent.id)}
        />
      ))}
      <h2 className="section">Checks of services and names</h2>
      <CheckTable checks={all} />
      <StorageState />
      <h2 className="section">Events</h2>
      <EventList />
    </>
  );
}

function AgentEntry({ agent, checks }: { agent: Agent; checks: Check[] }) {
  const { data: hostFacts } = useQuery(queries.hostFacts(agent.id));
  const places = hostFacts ? [...nearness(hostFacts, checks), services(checks)] : [];
  return (
    <section aria-label={agent.site} className="agent">
      <h2 className="section">
        {agent.site}
        <span className="quiet">
          {' '}
          version {agent.version}
          {agent.last_batch_at != null && (
            <>
              , last heard <Time at={agent.last_batch_at} />
            </>
          )}
          {agent.refused.length > 0 && `, ${count(agent.refused.length, 'task')} refused`}
          {agent.dropped_rounds > 0 && `, ${count(agent.dropped_rounds, 'round')} dropped`}
        </span>
      </h2>
      {hostFacts?.at != null ? (
        <>
          <Distance
            label={`Run diagnosis from ${agent.site}`}
            places={places.map(({ name, found, lines }) => ({
              name,
              found,
              words: lines.map((line) => <p key={line}>{line}</p>),
            }))}
          />
          <AllHostFacts agent={agent.id} />
        </>
      ) : (
        <p className="quiet">This agent has not reported host facts yet.</p>
      )}
    </section>
  );
}

/** The host facts as they are, or as they were at the end of a range that is over. */
function AllHostFacts({ agent }: { agent: string }) {
  const end = endOf(useTimeScope().range);
  const { data: hostFacts, error } = useQuery(queries.hostFacts(agent, end));
  return (
    <details>
      <summary>
        All host facts
        {end !== undefined && (
          <>
            {' '}
            at <Time at={end} />
          </>
        )}
      </summary>
      {error && <ErrorAlert error={error} />}
      {hostFacts?.at != null && <HostFactsTables hostFacts={hostFacts} />}
      {hostFacts && hostFacts.at == null && (
        <p className="quiet">No host facts were reported in the day before.</p>
      )}
    </details>
  );
}

type Interface = HostFacts['interfaces'][number];

const interfaces: TableColumnsType<Interface> = [
  { title: 'Interface', dataIndex: 'name' },
  { title: 'Is', dataIndex: 'medium' },
  {
    title: 'Negotiated',
    render: (_, one) =>
      one.speed_mbit_s == null
        ? '–'
        : `${one.speed_mbit_s} Mb/s, ${one.duplex ?? 'duplex unknown'}`,
  },
  { title: 'Addresses', render: (_, one) => one.addresses.join(', ') || '–' },
  { title: 'In', align: 'right', render: (_, one) => bits(one.in_bits_per_s) },
  { title: 'Out', align: 'right', render: (_, one) => bits(one.out_bits_per_s) },
  { title: 'Of its speed', align: 'right', render: (_, one) => usedShare(one.utilisation_ratio) },
  { title: 'Receive errors', align: 'right', render: (_, one) => one.damaged ?? '–' },
  { title: 'Thrown away', align: 'right', render: (_, one) => one.discarded ?? '–' },
];

type Gateway = HostFacts['gateways'][number];

const gateways: TableColumnsType<Gateway> = [
  {
    title: 'Gateway, in 24 h',
    render: (_, one) => (one.in_use ? `${one.address} (in use)` : one.address),
  },
  { title: 'By', dataIndex: 'interface' },
  { title: 'First used', render: (_, one) => <Time at={one.first_at} /> },
  { title: 'Last used', render: (_, one) => <Time at={one.last_at} /> },
  { title: 'Median', align: 'right', render: (_, one) => ms(one.delay_us) },
];

function HostFactsTables({ hostFacts }: { hostFacts: HostFacts }) {
  return (
    <>
      <Notes notes={hostFacts.notes} />
      <Table<Interface>
        size="small"
        className="numbers"
        rowKey="name"
        columns={interfaces}
        dataSource={hostFacts.interfaces}
        pagination={false}
      />
      <Table<Gateway>
        size="small"
        className="numbers"
        rowKey={(one) => `${one.address} ${one.interface}`}
        columns={gateways}
        dataSource={hostFacts.gateways}
        pagination={false}
      />
      <p className="said quiet">
        Routes:{' '}
        {hostFacts.routes
          .map(
            (one) =>
              `${one.to} ${one.gateway == null ? 'on' : `by ${one.gateway} on`} ${one.interface}`,
          )
          .join('; ') || 'none'}
        . Leases:{' '}
        {hostFacts.leases
          .map(
            (one) =>
              `${one.interface} from ${one.server ?? 'an unnamed server'}` +
              (one.lifetime_s == null ? '' : ` for ${one.lifetime_s / 3600} h`),
          )
          .join('; ') || 'none known'}
        .
      </p>
      <p className="said quiet">
        Neighbours:{' '}
        {hostFacts.neighbours
          .map((one) => `${one.address} is ${one.hardware_address ?? 'silent'} on ${one.interface}`)
          .join('; ') || 'none met'}
        .{' '}
        {hostFacts.sockets == null
          ? 'Open sockets are not listed: its limits file would have to allow it.'
          : `${count(hostFacts.sockets.length, 'open socket')}: ${hostFacts.sockets
              .map(
                (one) =>
                  `${one.protocol} ${one.local}${one.peer == null ? ' listens' : ` to ${one.peer}`}`,
              )
              .join('; ')}.`}
      </p>
    </>
  );
}

const columns: TableColumnsType<Check> = [
  {
    title: 'Check',
    render: (_, check) => (
      <Link to={`/checks/${check.id}`}>
        {check.site} to {check.target}
      </Link>
    ),
  },
  {
    title: 'Asks',
    render: (_, check) =>
      [check.kind, check.host, check.family === 'ipv6' ? 'IPv6' : null].filter(Boolean).join(', '),
  },
  {
    title: 'Is',
    render: (_, check) => (
      <>
        <FoundMark
          found={check.state === 'good' ? 'clean' : check.state === 'broken' ? 'broken' : 'unknown'}
        />{' '}
        {check.state}
      </>
    ),
  },
  { title: 'Time', align: 'right', render: (_, check) => ms(check.took_us) },
  { title: 'Failed at', render: (_, check) => failure(check) ?? '' },
];

function CheckTable({ checks }: { checks: Check[] }) {
  if (checks.length === 0) {
    return <p className="quiet">No checks: add [[target.check]] entries to the configuration.</p>;
  }
  return (
    <Table<Check>
      size="small"
      className="numbers"
      rowKey="id"
      columns={columns}
      dataSource={checks}
      pagination={checks.length > 40 ? { pageSize: 40 } : false}
    />
  );
}
