import { useQuery } from '@tanstack/react-query';
import { Skeleton } from 'antd';
import type { Cell, EventItem, Weave } from '../../api/client';
import { queries } from '../../api/queries';
import { count, dayTime, ms, perCent } from '../../format';
import { endingAt } from '../../time/range';
import { useTimeScope } from '../../time/scope';
import type { Zone } from '../../time/scope';
import { departures, departureWords, ink } from '../../theme';
import { ErrorAlert } from '../../components/error-alert';
import { DepartureScale } from '../now/board';
import { WIDTH, fitted, frame } from './staircase-layout';
import { labelsOf, marksOf, segmentsOf, worstCell } from './weave-layout';
import type { Segment } from './weave-layout';

const ROW = 7;
const HEAD = 26;

interface Props {
  id: string;
  /** Agent of the events that are marked beside it. */
  agent: string;
  /** The moment that the staircase shows; absent for now. */
  at: string | null;
  onPick: (at: string) => void;
}

/** Time runs downward, one column per owner under its part of the staircase. */
export function WeavePanel({ id, agent, at, onPick }: Props) {
  const { range, setRange } = useTimeScope();
  const { data: weave, error } = useQuery(queries.weave(id, range));
  const { data: events } = useQuery(queries.events(range, agent));
  if (error && !weave) return <ErrorAlert error={error} />;
  if (!weave) return <Skeleton active paragraph={{ rows: 6 }} />;
  if (weave.rows.length === 0) {
    return <p className="quiet">Nothing was measured in this time.</p>;
  }
  return (
    <>
      <Picture
        weave={weave}
        events={events ?? []}
        at={at}
        onPick={weave.summed ? (until) => setRange(endingAt(until, weave.row_s)) : onPick}
      />
      <DepartureScale note={noteOf(weave)} />
    </>
  );
}

function noteOf({ summed, row_s: rowS }: Weave): string {
  const rows = summed
    ? `Each row sums up ${count(rowS / 60, 'minute')}; usual is the median of the rows. Worst hop of each part; pick a row to see it in detail.`
    : 'Worst hop of each part; pick a row to see that moment.';
  return `${rows} ◆: something occurred at the agent`;
}

function told(
  { summed, row_s: rowS }: Weave,
  cell: Cell | undefined,
  segment: Segment,
  until: string,
  zone: Zone,
): string {
  const span = summed ? count(rowS / 60, 'minute') : 'minute';
  const where = `${segment.name}, ${span} until ${dayTime(until, zone)}`;
  if (!cell || cell.kind === 'missing') return `${where}: nothing measured`;
  if (cell.kind === 'silent') return `${where}: silent`;
  const word = cell.departure == null ? 'usual not known yet' : departureWords[cell.departure];
  return `${where}: ${word}; ${perCent(cell.loss_ratio)} lost here, ${ms(cell.added_delay_us)} added here`;
}

/** The row closest to a time. */
function pickedRow(weave: Weave, at: string | null): number {
  if (at === null) return -1;
  const wanted = new Date(at).getTime();
  const apart = weave.rows.map((row) => Math.abs(new Date(row.until).getTime() - wanted));
  const least = Math.min(...apart);
  return least <= weave.row_s * 1000 ? apart.indexOf(least) : -1;
}

function Picture({
  weave,
  events,
  at,
  onPick,
}: {
  weave: Weave;
  events: EventItem[];
  at: string | null;
  onPick: Props['onPick'];
}) {
  const { zone } = useTimeScope();
  const segments = segmentsOf(weave.hops);
  const width = (frame.right - frame.left) / Math.max(weave.hops.length, 1);
  const height = HEAD + weave.rows.length * ROW + 4;
  const picked = pickedRow(weave, at);
  const marks = marksOf(weave, events);
  const labels = labelsOf(weave, zone);
  return (
    <svg
      className="staircase"
      viewBox={`0 0 ${WIDTH} ${height}`}
      role="group"
      aria-label="Departure from usual by time and owner; the newest minute is at the bottom"
    >
      {segments.map((segment) => (
        <text
          key={segment.first}
          x={frame.left + ((segment.first + segment.end) / 2) * width}
          y={HEAD - 9}
          textAnchor="middle"
          fontSize="13"
          fill={ink.quiet}
        >
          {fitted(segment.name, (segment.end - segment.first) * width)}
        </text>
      ))}
      {weave.rows.map((row, index) => {
        const y = HEAD + index * ROW;
        return (
          <g key={row.until}>
            {labels[index] !== undefined && (
              <text x={frame.left - 6} y={y + 10} textAnchor="end" fontSize="12" fill={ink.quiet}>
                {labels[index]}
              </text>
            )}
            {segments.map((segment) => {
              const cell = worstCell(row.cells, segment);
              return (
                <Mark
                  key={segment.first}
                  cell={cell}
                  x={frame.left + segment.first * width + 1.5}
                  y={y}
                  width={(segment.end - segment.first) * width - 3}
                />
              );
            })}
            {marks[index] !== undefined && (
              <text
                x={frame.right + 6}
                y={y + 9}
                fontSize="13"
                fill={ink.text}
                data-mark={marks[index].length}
              >
                ◆<title>{marks[index].map((event) => event.message.headline).join('\n')}</title>
              </text>
            )}
            <rect
              data-row={row.until}
              x={frame.left}
              y={y}
              width={frame.right - frame.left}
              height={ROW}
              fill="transparent"
              stroke={index === picked ? ink.text : 'none'}
              strokeWidth="1.5"
              style={{ cursor: 'pointer', pointerEvents: 'all' }}
              onClick={() => onPick(row.until)}
            >
              <title>
                {segments
                  .map((s) => told(weave, worstCell(row.cells, s), s, row.until, zone))
                  .join('\n')}
              </title>
            </rect>
          </g>
        );
      })}
    </svg>
  );
}

interface MarkProps {
  cell: Cell | undefined;
  x: number;
  y: number;
  width: number;
}

/** Silence is a hatch, what is not measured is blank, what is not learned yet is an outline. */
function Mark({ cell, x, y, width }: MarkProps) {
  if (!cell || cell.kind === 'missing') return null;
  const box = { x, y: y + 0.5, width, height: ROW - 1 };
  if (cell.kind === 'silent') return <rect {...box} fill="url(#silence)" />;
  if (cell.departure == null) {
    return <rect {...box} fill="none" stroke={ink.faint} strokeWidth="0.8" />;
  }
  return <rect {...box} fill={departures[cell.departure]} />;
}
