import { Table } from 'antd';
import type { TableColumnsType } from 'antd';
import type { RouteHistory } from '../../api/client';
import { count, ms, ofAll, usedShare } from '../../format';
import { Time } from '../../components/time';
import { differingHops } from './history-layout';

/** Routes shown; a route that changes all the time has many more. */
const MOST = 8;

interface Props {
  routes: RouteHistory[];
}

function name(route: RouteHistory): string {
  return route.route?.slice(0, 8) ?? 'not told apart';
}

/** Where a route differs from the one with the most rounds, in words. */
function differences(route: RouteHistory, first: RouteHistory): string {
  if (route === first) return 'most rounds';
  if (route.route == null || first.route == null) return '–';
  const hops = differingHops(route, first);
  const words = hops.slice(0, 3).map(({ hop, address }) => {
    const here = address === undefined ? 'ends before' : (address ?? 'no answer');
    return `hop ${hop}: ${here}`;
  });
  const more = hops.length - words.length;
  return words.join(', ') + (more > 0 ? ` and ${count(more, 'more hop')}` : '');
}

/** The routes that the path took, beside each other: behind a load balancer, its members. */
export function RouteTable({ routes }: Props) {
  const [first] = routes;
  if (first === undefined || routes.length < 2) return null;
  const all = routes.reduce((sum, route) => sum + route.sum.rounds, 0);
  const columns: TableColumnsType<RouteHistory> = [
    { title: 'Route', render: (_, route) => name(route) },
    {
      title: 'Rounds',
      align: 'right',
      render: (_, { sum }) => `${sum.rounds} (${usedShare(sum.rounds / all)})`,
    },
    {
      title: 'Lost',
      align: 'right',
      render: (_, { sum }) => `${ofAll(sum.lost, sum.sent)} (${usedShare(sum.loss_ratio)})`,
    },
    { title: 'Delay, median', align: 'right', render: (_, { sum }) => ms(sum.delay_p50_us) },
    {
      title: '5 to 95 %',
      align: 'right',
      render: (_, { sum }) =>
        sum.delay_p5_us == null ? '–' : `${ms(sum.delay_p5_us)} to ${ms(sum.delay_p95_us)}`,
    },
    { title: 'Differs at', render: (_, route) => differences(route, first) },
    {
      title: 'Last seen',
      render: (_, { points }) => {
        const last = points.at(-1);
        return last === undefined ? '–' : <Time at={last.at} />;
      },
    },
  ];
  const more = routes.length - MOST;
  return (
    <>
      <h3 className="section">Routes in this range</h3>
      <Table<RouteHistory>
        size="small"
        className="numbers"
        rowKey={name}
        columns={columns}
        dataSource={routes.slice(0, MOST)}
        pagination={false}
      />
      <p className="quiet">Last seen: where the last point with this route begins.</p>
      {more > 0 && (
        <p className="quiet">
          {count(more, 'more route')} with fewer rounds: <code>itinera history --by-route</code>{' '}
          shows all.
        </p>
      )}
    </>
  );
}
