import { Table } from 'antd';
import type { TableColumnsType } from 'antd';
import { Link } from 'react-router';
import type { Evidence, Witness } from '../../api/client';
import { ms, ofAll } from '../../format';
import { Time } from '../../components/time';

const RELATIONS: Record<Witness['relation'], string> = {
  own: 'complained of',
  'same-site': 'same site',
  'same-service': 'same service',
};

const columns: TableColumnsType<Witness> = [
  { title: 'Relation', render: (_, w) => RELATIONS[w.relation] },
  {
    title: 'Path',
    render: (_, w) => (
      <Link to={w.until == null ? `/paths/${w.path}` : `/paths/${w.path}?at=${w.until}`}>
        {w.site} to {w.target}
      </Link>
    ),
  },
  {
    title: 'Probes',
    className: 'figure',
    render: (_, w) => `${w.family === 'ipv6' ? 'IPv6' : 'IPv4'}, ${w.method}`,
  },
  {
    title: 'Answered, worst minute',
    align: 'right',
    render: (_, w) => (w.until == null ? '–' : ofAll(w.end_sent - w.end_lost, w.end_sent)),
  },
  {
    title: 'Delay, median',
    align: 'right',
    className: 'figure',
    render: (_, w) => ms(w.end_delay_us),
  },
  {
    title: 'Usual',
    align: 'right',
    className: 'figure',
    render: (_, w) => ms(w.usual_end_delay_us),
  },
  {
    title: 'Finding',
    render: (_, w) => w.finding ?? (w.until == null ? 'not measured' : 'none'),
  },
];

/** What was measured there and then, beside its neighbours, as it was when the complaint came. */
export function EvidencePanel({ evidence }: { evidence: Evidence }) {
  // What came after the report is not in it.
  const to =
    Date.parse(evidence.to) < Date.parse(evidence.gathered_at) ? evidence.to : evidence.gathered_at;
  return (
    <section aria-labelledby="evidence">
      <h2 className="section" id="evidence">
        Measurements around that time
      </h2>
      <p className="said quiet">
        The worst minute of each path between <Time at={evidence.from} /> and <Time at={to} />.
        Copied <Time at={evidence.gathered_at} />: later measurements do not change it.
      </p>
      <Table<Witness>
        size="small"
        className="numbers"
        rowKey="path"
        columns={columns}
        dataSource={evidence.witnesses}
        pagination={evidence.witnesses.length > 15 ? { pageSize: 15 } : false}
      />
    </section>
  );
}
