import { useQuery } from '@tanstack/react-query';
import { Skeleton, Table } from 'antd';
import type { TableColumnsType } from 'antd';
import type { Pair, PairHop, PairRoute } from '../../api/client';
import { queries } from '../../api/queries';
import { ErrorAlert } from '../../components/error-alert';
import { Time } from '../../components/time';
import { endOf } from '../../time/range';
import { useTimeScope } from '../../time/scope';

const columns: TableColumnsType<PairHop> = [
  { title: 'Hop', dataIndex: 'hop', align: 'right' },
  { title: 'Address', render: (_, hop) => hop.address ?? 'no answer' },
  {
    title: 'Owner',
    render: (_, hop) => hop.owner?.name ?? (hop.private ? 'private' : '–'),
  },
];

/** The measured route of each direction of a pair. */
export function PairRoutes({ pair }: { pair: Pair }) {
  const end = endOf(useTimeScope().range);
  const { data, error } = useQuery(queries.pair(pair.id, end));
  if (error && !data) return <ErrorAlert error={error} />;
  if (!data) return <Skeleton active paragraph={{ rows: 4 }} />;
  if (!data.forward_route && !data.return_route) {
    return (
      <p className="said quiet">
        No route between the agents was reported in the two hours before. Agents report one within a
        minute, and again every hour.
      </p>
    );
  }
  return (
    <div className="routes">
      <OneWay from={pair.near} to={pair.far} route={data.forward_route ?? null} />
      <OneWay from={pair.far} to={pair.near} route={data.return_route ?? null} />
    </div>
  );
}

function OneWay({ from, to, route }: { from: string; to: string; route: PairRoute | null }) {
  return (
    <section>
      <p className="said quiet">
        Route from {from} to {to}
        {route === null ? (
          ': not reported in the two hours before.'
        ) : (
          <>
            , measured <Time at={route.at} />
          </>
        )}
      </p>
      {route !== null && (
        <Table<PairHop>
          size="small"
          rowKey="hop"
          columns={columns}
          dataSource={route.hops}
          pagination={false}
        />
      )}
    </section>
  );
}
