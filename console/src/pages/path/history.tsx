import { useQuery } from '@tanstack/react-query';
import { Skeleton } from 'antd';
import type { HistoryPoint, PathHistory } from '../../api/client';
import { queries } from '../../api/queries';
import { fullTime, ms, ofAll, perCent } from '../../format';
import { useTimeScope } from '../../time/scope';
import type { Zone } from '../../time/scope';
import { ink } from '../../theme';
import { ErrorAlert } from '../../components/error-alert';
import {
  Caption,
  ScaleLine,
  TimeTicks,
  WIDTH,
  placer,
  spanWords,
} from '../../components/time-chart';
import { axisEnd, runsOf, shownRange } from '../../time/axis';
import { lossOf } from './history-layout';
import { RouteTable } from './route-table';

const DELAY = { top: 18, bottom: 150 };
const LOSS = { top: 190, bottom: 244 };
const HEIGHT = 270;

/** Delay and loss of the path to its target, over the range of the page. */
export function HistoryPanel({ id }: { id: string }) {
  const { range } = useTimeScope();
  const { data, error } = useQuery(queries.pathHistory(id, range));
  return (
    <section aria-labelledby="history">
      <h2 className="section" id="history">
        History to the target
      </h2>
      {error && <ErrorAlert error={error} />}
      {!data && !error && <Skeleton active paragraph={{ rows: 5 }} />}
      {data && data.points.length === 0 && (
        <p className="quiet">
          No measurements are summed up in this range. New ones appear within a minute.
        </p>
      )}
      {data && data.points.length > 0 && <Picture history={data} />}
      {data?.routes && <RouteTable routes={data.routes} />}
    </section>
  );
}

function words(point: HistoryPoint, zone: Zone): string {
  const delay =
    point.delay_p50_us == null
      ? 'no answer'
      : `median ${ms(point.delay_p50_us)}, 5 to 95 % ${ms(point.delay_p5_us)} to ${ms(point.delay_p95_us)}`;
  return `${fullTime(point.at, zone)}: ${delay}; lost ${ofAll(point.lost, point.sent)}`;
}

function Picture({ history }: { history: PathHistory }) {
  const { zone } = useTimeScope();
  const { points, span_s: spanS } = history;
  const range = shownRange(history);
  const x = placer(range);
  const middle = (point: HistoryPoint) => x(new Date(point.at).getTime() + spanS * 500);
  const longest = Math.max(...points.map((point) => (point.delay_p95_us ?? 0) / 1000));
  const delayEnd = axisEnd(longest, 1);
  const delayY = (us: number) => DELAY.bottom - (us / 1000 / delayEnd) * (DELAY.bottom - DELAY.top);
  const lossEnd = Math.min(
    100,
    axisEnd(Math.max(...points.map((p) => (p.loss_ratio ?? 0) * 100)), 5),
  );
  const lossY = (ratio: number) =>
    LOSS.bottom - ((ratio * 100) / lossEnd) * (LOSS.bottom - LOSS.top);
  const total = lossOf(points);
  const bar = (point: HistoryPoint) => {
    const begin = new Date(point.at).getTime();
    const [left, right] = [x(begin), x(begin + spanS * 1000)];
    return { x: left, width: Math.max(1.5, right - left - 0.5) };
  };
  const runs = runsOf(history).map((run) => run.filter((point) => point.delay_p50_us != null));
  const line = (run: HistoryPoint[], of: (point: HistoryPoint) => number | null | undefined) =>
    run.map((point) => `${middle(point).toFixed(1)},${delayY(of(point) ?? 0).toFixed(1)}`);
  return (
    <>
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        width="100%"
        role="img"
        aria-label={`Delay and loss over time: ${ofAll(total.lost, total.sent)} lost`}
      >
        {[0, delayEnd / 2, delayEnd].map((at) => (
          <ScaleLine key={at} y={delayY(at * 1000)} label={`${at} ms`} />
        ))}
        {[0, lossEnd].map((at) => (
          <ScaleLine key={at} y={lossY(at / 100)} label={`${at} %`} />
        ))}
        <Caption y={DELAY.top - 6} text="Round-trip delay: median, and the band of 5 to 95 %" />
        <Caption y={LOSS.top - 6} text="Round-trip loss" />
        {runs.map((run) => (
          <g key={run[0]?.at ?? 'empty'}>
            <polygon
              points={[
                ...line(run, (point) => point.delay_p95_us),
                ...line(run, (point) => point.delay_p5_us).reverse(),
              ].join(' ')}
              fill={ink.band}
            />
            <polyline
              points={line(run, (point) => point.delay_p50_us).join(' ')}
              fill="none"
              stroke={ink.line}
              strokeWidth="1.6"
            />
            {run.length === 1 && run[0] !== undefined && (
              <circle
                cx={middle(run[0])}
                cy={delayY(run[0].delay_p50_us ?? 0)}
                r="2"
                fill={ink.line}
              />
            )}
          </g>
        ))}
        {points.map((point) => {
          const y = lossY(point.loss_ratio ?? 0);
          return (
            <g key={point.at} data-point={point.at}>
              <rect {...bar(point)} y={y} height={Math.max(0, LOSS.bottom - y)} fill={ink.text} />
              <rect
                {...bar(point)}
                y={DELAY.top}
                height={LOSS.bottom - DELAY.top}
                fill="transparent"
              >
                <title>{words(point, zone)}</title>
              </rect>
            </g>
          );
        })}
        <TimeTicks range={range} y={HEIGHT - 8} />
      </svg>
      <p className="quiet">
        Each point is {spanWords(spanS)}. In all, {ofAll(total.lost, total.sent)} probes lost (
        {perCent(total.sent === 0 ? null : total.lost / total.sent)}). Gaps: nothing was measured.
      </p>
    </>
  );
}
