import { Table } from 'antd';
import type { TableColumnsType } from 'antd';
import type { Hop } from '../../api/client';
import { ms, ofAll, perCent, signedMs } from '../../format';

const meanings: Record<Hop['verdict'], string> = {
  clean: '',
  silent: 'silent; traffic passes',
  'rate-limits': 'rate-limits its answers; traffic passes',
  onset: 'loss or delay begins at this hop',
  carries: 'has the fault',
  unanswered: 'no answer from here on',
};

function aboveUsual(hop: Hop): string {
  if (hop.delay_us == null || hop.usual_delay_us == null)
    return hop.address == null ? '–' : 'not known yet';
  return signedMs(hop.delay_us - hop.usual_delay_us);
}

/** Answers of probes with the 95 % interval of that share. */
function answered(hop: Hop): string {
  const all = ofAll(hop.sent - hop.lost, hop.sent);
  if (hop.loss_low_ratio == null || hop.loss_high_ratio == null) return all;
  const low = Math.round((1 - hop.loss_high_ratio) * 100);
  return `${all} (${low}–${perCent(1 - hop.loss_low_ratio)})`;
}

const columns: TableColumnsType<Hop> = [
  { title: 'Hop', dataIndex: 'hop', align: 'right' },
  {
    title: 'Owner',
    render: (_, hop) => hop.owner?.name ?? (hop.private ? "the site's own" : '–'),
  },
  { title: 'Address', render: (_, hop) => hop.address ?? '–' },
  { title: 'Got here', align: 'right', render: (_, hop) => perCent(hop.got_here_ratio) },
  { title: 'Answered (95 % interval)', align: 'right', render: (_, hop) => answered(hop) },
  { title: 'Delay, median', align: 'right', render: (_, hop) => ms(hop.delay_us) },
  {
    title: 'Quartiles',
    align: 'right',
    render: (_, hop) =>
      hop.delay_low_us == null ? '–' : `${ms(hop.delay_low_us)} and ${ms(hop.delay_high_us)}`,
  },
  { title: 'Above usual', align: 'right', render: (_, hop) => aboveUsual(hop) },
  { title: 'Verdict', render: (_, hop) => meanings[hop.verdict] },
];

/** What the hop of the same number gave at the moment laid under this one. */
function besideColumns(beside: Hop[]): TableColumnsType<Hop> {
  const then = new Map(beside.map((hop) => [hop.hop, hop]));
  return [
    {
      title: 'Then: got here',
      align: 'right',
      render: (_, hop) => perCent(then.get(hop.hop)?.got_here_ratio),
    },
    {
      title: 'Then: delay',
      align: 'right',
      render: (_, hop) => ms(then.get(hop.hop)?.delay_us),
    },
  ];
}

interface Props {
  hops: Hop[];
  beside?: Hop[] | undefined;
}

export function HopTable({ hops, beside }: Props) {
  const all = beside ? [...columns, ...besideColumns(beside)] : columns;
  return (
    <Table<Hop>
      size="small"
      className="numbers"
      rowKey="hop"
      columns={all}
      dataSource={hops}
      pagination={false}
    />
  );
}
