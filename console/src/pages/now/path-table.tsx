import { Table } from 'antd';
import type { TableColumnsType } from 'antd';
import { Link } from 'react-router';
import type { PathItem } from '../../api/client';
import { ms, ofAll, perCent } from '../../format';

function found(path: PathItem): string {
  const finding = path.latest?.finding;
  if (!path.latest) return 'not measured yet';
  if (!finding) return 'nothing begins here';
  const amount =
    finding.loss_ratio == null
      ? `${ms(finding.added_delay_us)} added`
      : `${perCent(finding.loss_ratio)} lost`;
  return `${amount} from ${finding.place.from} to ${finding.place.to}`;
}

const columns: TableColumnsType<PathItem> = [
  {
    title: 'From',
    dataIndex: 'site',
    render: (site: string, path) => <Link to={`/paths/${path.id}`}>{site}</Link>,
  },
  { title: 'To', dataIndex: 'target' },
  { title: 'By', dataIndex: 'method' },
  { title: 'Hops', align: 'right', render: (_, path) => path.latest?.hops ?? '–' },
  {
    title: 'Came back, last minute',
    align: 'right',
    render: (_, { latest }) =>
      latest ? ofAll(latest.end_sent - latest.end_lost, latest.end_sent) : '–',
  },
  {
    title: 'Round-trip delay, median',
    align: 'right',
    render: (_, { latest }) => ms(latest?.end_delay_us),
  },
  { title: 'Found', render: (_, path) => found(path) },
];

/** All paths in the order in which they were made: live data changes cells, never rows' order. */
export function PathTable({ paths }: { paths: PathItem[] | undefined }) {
  return (
    <Table<PathItem>
      size="small"
      className="numbers"
      rowKey="id"
      columns={columns}
      dataSource={paths ?? []}
      loading={!paths}
      pagination={false}
      locale={{
        emptyText: 'No paths yet: they are made when an agent joins and targets are configured.',
      }}
    />
  );
}
