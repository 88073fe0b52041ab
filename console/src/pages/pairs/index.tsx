import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Empty, Skeleton, Table } from 'antd';
import type { TableColumnsType } from 'antd';
import { makeVoice } from '../../api/client';
import type { Direction } from '../../api/client';
import { queries } from '../../api/queries';
import { ms, ofAll } from '../../format';
import { Time } from '../../components/time';
import { ErrorAlert } from '../../components/error-alert';
import { type Lane, lanesOf, headlineOf } from './lanes';
import { Notes } from '../../components/notes';
import { PairHistoryPanel } from './history';
import { PairRoutes } from './routes';
import { endOf } from '../../time/range';
import { useTimeScope } from '../../time/scope';

function lost({ lost: gone, arrived }: Direction): string {
  const known = gone + arrived;
  return known === 0 ? '–' : `${((gone / known) * 100).toFixed(1)} % (${ofAll(gone, known)})`;
}

function bounds({ delay_least_us: least, delay_most_us: most }: Direction): string {
  return least == null || most == null ? '–' : `${ms(least)} to ${ms(most)}`;
}

/** The voice rating of a direction; only after a voice-like stream. */
function heardIn({ pair, direction }: Lane): string {
  const heard = pair.voice?.[direction];
  return heard == null ? '–' : `${heard.fitness}, R ${heard.r.toFixed(0)}`;
}

const columns: TableColumnsType<Lane> = [
  {
    title: 'From',
    render: (_, { from, pair, direction }) =>
      direction === 'forward' ? `${from} (${pair.family})` : from,
  },
  { title: 'To', dataIndex: 'to' },
  { title: 'Lost', align: 'right', render: (_, { seen }) => lost(seen) },
  { title: 'PDV', align: 'right', render: (_, { seen }) => ms(seen.variation_us) },
  { title: 'Minimum delay, bounds', align: 'right', render: (_, { seen }) => bounds(seen) },
  { title: 'Reordered', align: 'right', render: (_, { seen }) => seen.reordered },
  { title: 'Duplicated', align: 'right', render: (_, { seen }) => seen.duplicated },
  { title: 'DSCP', align: 'right', render: (_, { seen }) => seen.dscp ?? '–' },
  { title: 'Hops', align: 'right', render: (_, { seen }) => seen.hops ?? '–' },
  { title: 'Voice', render: (_, lane) => heardIn(lane) },
];

function said({ pair }: Lane) {
  const offset = pair.clock_offset_us;
  return (
    <>
      <p className="said quiet">
        Pair {pair.no}, {pair.near_address} to {pair.far_address}; round trip{' '}
        {ms(pair.round_trip_us)}, median of {pair.rounds} rounds
      </p>
      <PairHistoryPanel pair={pair} />
      <PairRoutes pair={pair} />
      <Notes notes={pair.notes} />
      {pair.voice && <Notes notes={pair.voice.notes} />}
      <VoiceButton id={pair.id} until={pair.voice_until ?? null} />
      {offset != null && (
        <p className="said">
          The clock at {pair.far} is {ms(Math.abs(offset))} {offset < 0 ? 'behind' : 'ahead of'} the
          one at {pair.near}, give or take {ms(pair.clock_offset_error_us)}
          {pair.clock_drift_ppb != null &&
            `, and drifts by ${(pair.clock_drift_ppb / 1000).toFixed(1)} parts in a million, give or take ${((pair.clock_drift_error_ppb ?? 0) / 1000).toFixed(1)}`}
          .
        </p>
      )}
    </>
  );
}

/** Sends a voice-like stream for half a minute. */
function VoiceButton({ id, until }: { id: string; until: string | null }) {
  const client = useQueryClient();
  const asking = useMutation({
    mutationFn: () => makeVoice(id, 30),
    onSuccess: () => client.invalidateQueries({ queryKey: ['pairs'] }),
  });
  return (
    <p className="said">
      {until === null ? (
        <Button size="small" loading={asking.isPending} onClick={() => asking.mutate()}>
          Send a voice-like stream for half a minute
        </Button>
      ) : (
        <>
          A voice-like stream runs until <Time at={until} />.
        </>
      )}
      {asking.error && <ErrorAlert error={asking.error} />}
    </p>
  );
}

const expandable = {
  rowExpandable: (lane: Lane) => lane.direction === 'forward',
  expandedRowRender: said,
};

/** Two-way measurements between sites, each direction by itself. */
export function PairsPage() {
  const end = endOf(useTimeScope().range);
  const { data: pairs, error } = useQuery(queries.pairs(end));
  if (error && !pairs) return <ErrorAlert error={error} />;
  if (!pairs) return <Skeleton active paragraph={{ rows: 8 }} />;
  if (pairs.length === 0) {
    return (
      <Empty
        description={
          end === undefined
            ? 'No two-way measurements. They need agents at two sites, and two_way_partners above 0 in the schedule.'
            : 'No two-way measurements in the ten minutes before the end of this range.'
        }
      />
    );
  }
  return (
    <>
      {error && <ErrorAlert error={error} />}
      <h1 className="sentence">{headlineOf(pairs)}</h1>
      <p className="said quiet">
        Packets between agents in the {Math.round((pairs[0]?.span_s ?? 0) / 60)} minutes before{' '}
        {end === undefined ? 'now' : <Time at={end} />}, each direction by itself. PDV is delay
        variation: the 95th percentile above the minimum (RFC 5481). The minimum delay lies within
        the bounds: an asymmetric route and a clock error look the same. Open a row for the history
        of the pair over the range and its routes.
      </p>
      <Table<Lane>
        size="small"
        className="numbers"
        rowKey={(lane) => `${lane.pair.id}-${lane.direction}`}
        columns={columns}
        dataSource={lanesOf(pairs)}
        pagination={false}
        onRow={(lane) => (lane.direction === 'return' ? { className: 'lane-return' } : {})}
        expandable={expandable}
      />
    </>
  );
}
