import { useQuery } from '@tanstack/react-query';
import { Skeleton } from 'antd';
import type { Pair, PairHistory, PairHistoryPoint } from '../../api/client';
import { queries } from '../../api/queries';
import {
  Caption,
  ScaleLine,
  TimeTicks,
  WIDTH,
  placer,
  spanWords,
} from '../../components/time-chart';
import { ErrorAlert } from '../../components/error-alert';
import { fullTime, ms, ofAll } from '../../format';
import { ink } from '../../theme';
import { axisEnd, runsOf, shownRange } from '../../time/axis';
import { useTimeScope } from '../../time/scope';
import type { Zone } from '../../time/scope';

type Way = 'forward' | 'return';

const WAYS: Way[] = ['forward', 'return'];
const LOSS = { forward: { top: 18, bottom: 62 }, return: { top: 88, bottom: 132 } };
const PDV = { top: 160, bottom: 230 };
const HEIGHT = 256;

/** Loss and delay variation of a pair over the range of the page, each direction by itself. */
export function PairHistoryPanel({ pair }: { pair: Pair }) {
  const { range } = useTimeScope();
  const { data, error } = useQuery(queries.pairHistory(pair.id, range));
  if (error && !data) return <ErrorAlert error={error} />;
  if (!data) return <Skeleton active paragraph={{ rows: 4 }} />;
  if (data.points.length === 0) {
    return <p className="quiet">No measurements are summed up in this range.</p>;
  }
  return <Picture history={data} pair={pair} />;
}

function words(point: PairHistoryPoint, pair: Pair, zone: Zone): string {
  const way = (from: string, to: string, of: PairHistoryPoint[Way]) =>
    `${from} to ${to}: lost ${ofAll(of.lost, of.lost + of.arrived)}, PDV ${ms(of.variation_p50_us)}`;
  return [
    fullTime(point.at, zone),
    way(pair.near, pair.far, point.forward),
    way(pair.far, pair.near, point.return),
  ].join('\n');
}

function Picture({ history, pair }: { history: PairHistory; pair: Pair }) {
  const { zone } = useTimeScope();
  const { points, span_s: spanS } = history;
  const range = shownRange(history);
  const x = placer(range);
  const begin = (point: PairHistoryPoint) => new Date(point.at).getTime();
  const bar = (point: PairHistoryPoint) => {
    const [left, right] = [x(begin(point)), x(begin(point) + spanS * 1000)];
    return { x: left, width: Math.max(1.5, right - left - 0.5) };
  };
  const all = points.flatMap((point) => WAYS.map((way) => point[way]));
  const lossEnd = Math.min(
    100,
    axisEnd(Math.max(...all.map((of) => (of.loss_ratio ?? 0) * 100)), 1),
  );
  const lossY = (way: Way, ratio: number) => {
    const { top, bottom } = LOSS[way];
    return bottom - ((ratio * 100) / lossEnd) * (bottom - top);
  };
  const pdvEnd = axisEnd(Math.max(...all.map((of) => (of.variation_p50_us ?? 0) / 1000)), 1);
  const pdvY = (us: number) => PDV.bottom - (us / 1000 / pdvEnd) * (PDV.bottom - PDV.top);
  const runs = (way: Way) =>
    runsOf(history).map((run) => run.filter((point) => point[way].variation_p50_us != null));
  const line = (way: Way, run: PairHistoryPoint[]) =>
    run
      .map((point) => {
        const middle = x(begin(point) + spanS * 500).toFixed(1);
        return `${middle},${pdvY(point[way].variation_p50_us ?? 0).toFixed(1)}`;
      })
      .join(' ');
  const ends = { forward: [pair.near, pair.far], return: [pair.far, pair.near] };
  return (
    <>
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        width="100%"
        role="img"
        aria-label={`Loss and delay variation between ${pair.near} and ${pair.far} over time`}
      >
        {WAYS.map((way) => (
          <g key={way}>
            <Caption y={LOSS[way].top - 6} text={`Loss from ${ends[way].join(' to ')}`} />
            {[0, lossEnd].map((at) => (
              <ScaleLine key={at} y={lossY(way, at / 100)} label={`${at} %`} />
            ))}
            {points.map((point) => {
              const y = lossY(way, point[way].loss_ratio ?? 0);
              const height = Math.max(0, LOSS[way].bottom - y);
              return <rect key={point.at} {...bar(point)} y={y} height={height} fill={ink.text} />;
            })}
          </g>
        ))}
        <Caption
          y={PDV.top - 6}
          text={`Delay variation (PDV), median; solid from ${ends.forward.join(' to ')}, dashed from ${ends.return.join(' to ')}`}
        />
        {[0, pdvEnd].map((at) => (
          <ScaleLine key={at} y={pdvY(at * 1000)} label={`${at} ms`} />
        ))}
        {WAYS.flatMap((way) =>
          runs(way).map((run) => (
            <polyline
              key={`${way} ${run[0]?.at ?? 'empty'}`}
              points={line(way, run)}
              fill="none"
              stroke={way === 'forward' ? ink.line : ink.other}
              strokeWidth="1.6"
              strokeDasharray={way === 'forward' ? undefined : '5 3'}
            />
          )),
        )}
        {points.map((point) => (
          <rect
            key={point.at}
            data-point={point.at}
            {...bar(point)}
            y={LOSS.forward.top}
            height={PDV.bottom - LOSS.forward.top}
            fill="transparent"
          >
            <title>{words(point, pair, zone)}</title>
          </rect>
        ))}
        <TimeTicks range={range} y={HEIGHT - 8} />
      </svg>
      <p className="quiet">Each point is {spanWords(spanS)}. Gaps: nothing was measured.</p>
    </>
  );
}
